// Ties the bench together: scene, frames, ribbon, player, keys. All results come from the server.
import { fetchPack } from "./pack.js";
import { Viewport } from "./viewport.js";
import { Ribbon } from "./ribbon.js";
import { Frames } from "./frames.js";
import { Ghost } from "./ghost.js";
import { css } from "./stage.js";
import { Curves } from "./curves.js";
import { editing, send } from "./edits.js";
import { Chooser } from "./choose.js";
import { Hand } from "./hand.js";
import { Live } from "./live.js";
import { Air } from "./air.js";
import { Region } from "./region.js";
import { Player } from "./player.js";
import { Tinted } from "./ramp.js";
import { listen } from "./listen.js";

const $ = (id) => document.getElementById(id);
const shot = $("bench").dataset.shot;
const store = `zembrik-shot-${shot}`;
const saved = JSON.parse(localStorage.getItem(store) || "{}");
const view = new Viewport($("stage"), $("scale"), $("tag"));
const ribbon = new Ribbon($("ribbon"), (frame) => { pause(); go(frame); });
const state = { frame: saved.frame ?? null, playing: false, status: null, figures: {}, frames: null, fps: 24, revision: 0 };
const curves = new Curves($("curves"), {
  range: () => [ribbon.first, ribbon.last], now: () => state.frame, go: (frame) => { pause(); go(frame); },
  save: ({ path, keys, ease }) => {
    const kept = { path, keys: JSON.stringify(keys), ease, body: view.selected };
    return send(`/shots/${shot}/track`, () => ({ base: panelRevision(), station: panelStation() ?? "motion", ...kept })).then(readCurve);
  },
});
const chooser = new Chooser(view, $("lasso"), (numbers) => {
  const field = $("chosen-points");
  if (!field) return;
  field.value = JSON.stringify(numbers);
  if (numbers.length) $("chosen-words").textContent = `${numbers.length} point${numbers.length > 1 ? "s" : ""} chosen, in front and behind.`;
});
const air = new Air(view);
const region = new Region(view, (drawn) => {
  for (const [name, value] of Object.entries(drawn)) {
    const field = document.querySelector(`#new-layer [name=${name}]`);
    if (field) field.value = String(Number(value.toFixed(3)));
  }
});
const hand = new Hand(view, shot, {
  send, open: (name) => openStation(panelStation(), name), first: () => { pause(); go(state.status.frames[0]); }, base: () => panelRevision(), station: () => panelStation() ?? "start",
  // Resolves when the scene is that of the panel; a refused gesture left its picture behind, which is drawn anew.
  drawn: async (refused) => {
    if (refused) await loadScene(false);
    for (let tries = 0; state.revision !== panelRevision() && tries < 400; tries++) await new Promise((done) => setTimeout(done, 25));
  },
});
const live = new Live(view, shot, {
  ended: (why) => { hand.show(); loadScene(false); if (why) notice(why); },
  kept: () => refreshPanel(),
});
window.zembrik = { view, state, curves, hand, live };  // for tests and the curious

if (saved.figure) $("figure").value = saved.figure;

function remember() {
  localStorage.setItem(store, JSON.stringify({ frame: state.frame, figure: $("figure").value, every: player.every, loop: player.loop }));
}

// ---- scene
function loadScene(fit) {
  state.loading = load(fit);
  return state.loading;
}

async function load(fit) {
  const pack = await fetchPack(`/shots/${shot}/scene.bin`);
  state.revision = pack.head.revision;
  state.whole = pack.head.whole;
  state.schedule = pack.head.schedule;
  state.marks = pack.head.marked;
  state.handovers = pack.head.handovers;
  view.setScene(pack);
  if (air.tips) air.show(shot, state.frame);
  takeFaces();
  document.querySelector('[data-toggle="render"]').hidden = !view.carries();
  follow();
  if (fit) view.fit();
  show();
}

// The panel's body is lit; what is chosen stays chosen, as far as it is still there.
function follow() {
  view.select(document.querySelector(".open-panel")?.dataset.body || "");
  hand.reloaded();
}

// What is baked of the bodies; the faces of render meshes are the scene's own.
function takeFaces() { view.setBaked(state.frames?.bodies ?? []); }

async function openFrames(bakeId) {
  if (tinted) tint(null);
  state.frames = await new Frames(bakeId, show, view.shown.render && view.carries()).open((pack) => view.shapes(pack));
  takeFaces();
}

// ---- status: how far the bake is
async function ask() {
  try {
    const bake = state.status?.bake;
    const have = bake ? (state.figures.seconds || []).length : 0;
    const answer = await fetch(`/shots/${shot}/status.json?have=${have}&bake=${bake ? bake.id : 0}`);
    if (answer.ok) await take(await answer.json());
  } catch { /* the server is away; once it is back the page is told, and asks again */ }
}

// What is told of a bake comes piece by piece; where a piece is missing the whole is asked for.
async function told(name, data) {
  if (name === "errand") { htmx.trigger(document.body, `errand-${data}`); return; }
  const bake = data.bake, same = bake && state.status?.bake?.id === bake.id;
  if (bake && bake.known > (same ? (state.figures.seconds || []).length : 0)) await ask(); else await take(data);
}

async function take(status) {
  const before = state.status;
  state.status = status;
  state.fps = status.fps;
  const bake = status.bake;
  if (bake) {
    if (!before?.bake || before.bake.id !== bake.id) state.figures = {};
    for (const [name, values] of Object.entries(bake.figures))
      state.figures[name] = (state.figures[name] || []).slice(0, bake.known).concat(values);
    if ((!state.frames || state.frames.id !== bake.id) && bake.done > 0) {
      await openFrames(bake.id);
    }
  } else { state.frames = null; state.figures = {}; }
  if (state.frame === null) state.frame = status.frames[0];
  if (before && before.revision !== status.revision && status.revision !== state.revision) loadScene(false);
  if (panelIsOld()) refreshPanel();
  words();
  show();
}

const seconds = (s) => s < 10 ? `${s.toFixed(1)} s` : s < 90 ? `${Math.round(s)} s` : `${Math.round(s / 60)} min`;

function words() {
  const { status } = state, bake = status.bake, box = $("bake-words");
  const count = document.createElement("b");
  count.textContent = status.queue;
  $("queue-pill").replaceChildren(...(status.queue ? ["queue ", count, " to do"] : ["queue empty"]));
  box.className = "";
  if (!bake) box.textContent = "not baked yet";
  else if (bake.state === "queued") box.textContent = "◆ in the queue";
  else if (bake.state === "running") {
    const live = $("live-bake");
    if (live) live.textContent = `being baked · ${bake.done} of ${bake.last - bake.first + 1}`;
    box.textContent = `◆ ${bake.done} of ${bake.last - bake.first + 1} baked` + (bake.left_s ? ` · about ${seconds(bake.left_s)} left` : "");
  }
  else if (bake.state === "failed") { box.textContent = "✕ the bake failed"; box.className = "failed"; box.title = bake.error; }
  else if (bake.stale.length) { box.textContent = `▨ stale: ${bake.stale[0]}`; box.className = "stale"; box.title = bake.stale.join("\n"); }
  else box.textContent = "";
}

// ---- showing a frame
function doneFrame() {
  const bake = state.status?.bake;
  return bake && bake.done ? bake.first + bake.done - 1 : null;
}

function show() {
  const status = state.status;
  if (!status || live.on) return;
  const bake = status.bake, done = doneFrame();
  const [first, last] = status.frames;
  const from = Math.min(first, bake?.done ? bake.first : first), to = Math.max(last, done ?? last);
  state.frame = Math.max(from, Math.min(to, state.frame));
  const figure = $("figure").value, unit = $("figure").selectedOptions[0].dataset.unit;
  const values = state.figures[figure] || [];
  ribbon.set({
    schedule: state.schedule, marks: state.marks, handovers: state.handovers, scheduled: first, first: from, last: to, begin: bake ? bake.first : first, done: bake ? bake.done : 0, values, frame: state.frame,
    wrong: bake?.wrong ?? null,
    stale: !!bake?.stale.length, active: bake?.state === "running",
  });
  if (curves.open) curves.draw();
  $("now").textContent = String(state.frame).padStart(3, "0");
  $("of").textContent = `of ${to} · ${status.fps} fps`;
  const top = Math.max(...values.filter(Number.isFinite));
  const here = bake ? values[state.frame - bake.first] : undefined;
  $("peak").textContent = values.length
    ? `${here === undefined ? "–" : Number(here.toPrecision(3))} ${unit} here · peak ${Number(top.toPrecision(3))} at ${String(values.indexOf(top) + bake.first).padStart(3, "0")}`
    : bake?.done ? "not measured in this cache" : "";
  const wait = $("wait");
  wait.hidden = true;
  // Of a stale bake the first frame gives way to the start as it is set now.
  const start = bake?.stale.length && state.frame === first;
  if (view.atStart !== (state.frame === first)) { view.atStart = state.frame === first; hand.show(); }
  if (!start && done !== null && state.frames && state.frame >= bake.first && state.frame <= done) {
    const bodies = state.frames.at(state.frame);
    state.frames.want(state.frame, done);
    if (bodies) {
      view.setFrame(bodies);
      state.drawn = state.frame;
      view.draw();
    }
  } else {
    view.showStart();
    state.drawn = null;
    if (bake && state.frame !== first) { wait.hidden = false; wait.textContent = `frame ${state.frame} is not there yet; this is the start`; }
  }
  view.hideTag = state.frame !== first;
  view.moveTo(state.frame - first);
  air.moveTo(state.frame);
  if (tinted) { if (state.drawn) tinted.show(state.frame); else { tinted.end(); tinted.over = false; tinted.shown = null; } }
}

let laid = [];
function go(frame) {
  if (laid.length && laid[0].frame !== frame) { for (const ghost of laid) ghost.end(); laid = []; }
  state.frame = frame;
  show();
  remember();
}

// ---- playing
const player = new Player({
  fps: () => state.fps, range: () => [state.status.bake.first, doneFrame()], ready: (frame) => state.frames.has(frame),
  want: (frame) => state.frames.want(frame, doneFrame()), show: (frame) => { state.frame = frame; state.played = (state.played || 0) + 1; show(); },
  more: () => state.status.bake.state === "running", changed: (on) => { state.playing = on; mark(); if (!on) remember(); },
});
player.every = Boolean(saved.every);
player.loop = saved.loop ?? null;

function play() { if (doneFrame() !== null && state.frames) player.play(state.frame); }
function pause() { player.pause(); mark(); remember(); }

function mark() {
  const path = document.querySelector(".play path");
  path.setAttribute("d", state.playing ? "M4 2.5h3v11H4zM9 2.5h3v11H9z" : "M4 2.5v11l9-5.5z");
  document.querySelector(".play").setAttribute("aria-label", state.playing ? "Pause" : "Play");
  $("every").textContent = player.every ? "every frame" : "true speed";
  ribbon.set({ loop: player.loop });
}

// The loop begins or ends at this frame; both at one frame, or the third bracket, end it.
function setLoop(which) {
  const [first, last] = state.status.frames, loop = player.loop ?? [first, last];
  player.loop = which === null ? null : which === 0 ? [state.frame, Math.max(state.frame, loop[1])] : [Math.min(loop[0], state.frame), state.frame];
  if (player.loop && player.loop[0] >= player.loop[1]) player.loop = which === 0 ? [state.frame, last] : [first, state.frame];
  if (player.loop && player.loop[0] >= player.loop[1]) player.loop = null;
  mark(); remember();
}

// ---- colours of every point, with their scale
let tinted = null;
function tint(what) {
  tinted?.end();
  tinted = what && state.frames ? new Tinted(view, state.frames.id, what) : null;
  $("ramp").hidden = !tinted;
  if (tinted) tinted.came = (head) => {
    const round = (v) => Number(v.toPrecision(3));
    $("ramp").querySelector("span").textContent = head.what;
    $("ramp").querySelector(".most").textContent = `${round(head.top)} ${head.unit}`;
  };
  state.tint = what;
  document.querySelectorAll("[data-action=tint]").forEach((b) => b.setAttribute("aria-checked", String((b.dataset.what || null) === (what || null))));
  show();
}

// Lays a body as it is a frame before and a frame after this one over it, as lines, until another frame is looked at.
async function overlay(name) {
  for (const ghost of laid) ghost.end();
  laid = [];
  const { frame, frames } = state;
  for (const [at, colour] of [[frame - 1, "--rain"], [frame + 1, "--lamp"]]) {
    for (let tries = 0; frames && !frames.has(at) && tries < 100; tries++) {
      frames.want(at, doneFrame());
      await new Promise((done) => setTimeout(done, 50));
    }
    if (state.frame !== frame || !frames?.has(at)) return;
    const ghost = new Ghost(css(colour));
    ghost.put(frames.at(at).filter(([of]) => of === name));
    ghost.frame = frame;
    view.scene.add(ghost);
    laid.push(ghost);
  }
  view.draw();
}

async function marksOf(frame) {
  const answer = await fetch(`/shots/${shot}/marks`, { method: "POST", body: new URLSearchParams({ frame }), headers: { "X-Form-Token": document.body.dataset.token } });
  if (answer.ok) { state.marks = await answer.json(); ribbon.set({ marks: state.marks }); if (panelStation() === "review") refreshPanel(); }
}

// The picture as it is, at the canvas's own size, on the night behind it.
function picture() {
  view.render(false);
  const from = view.canvas, sheet = document.createElement("canvas");
  sheet.width = from.width; sheet.height = from.height;
  const pen = sheet.getContext("2d");
  pen.fillStyle = getComputedStyle(document.documentElement).getPropertyValue("--stage-mid");
  pen.fillRect(0, 0, sheet.width, sheet.height);
  pen.drawImage(from, 0, 0);
  sheet.toBlob((blob) => {
    const link = document.createElement("a");
    link.href = URL.createObjectURL(blob);
    link.download = `${$("bench").dataset.code}-${String(state.frame).padStart(4, "0")}.png`;
    link.click();
    setTimeout(() => URL.revokeObjectURL(link.href), 10000);
  }, "image/png");
}

// ---- the curve view shows what the panel has; a track that is gone closes it
function readCurve() {
  if (!curves.open || editing()) return;  // what is on its way is newer than what the panel has
  const all = [...document.querySelectorAll("#panel [data-track]")].map((b) => JSON.parse(b.dataset.track));
  const track = all.find((t) => t.path === curves.track.path);
  if (track) curves.show(track); else curves.close();
  markCurve();
}

function markCurve() {
  for (const button of document.querySelectorAll("#panel [data-track]"))
    button.setAttribute("aria-pressed", curves.open && JSON.parse(button.dataset.track).path === curves.track.path);
}

function notice(words) {
  const box = document.createElement("div"), text = document.createElement("p"), close = document.createElement("button");
  box.className = "notice";
  text.textContent = words;
  Object.assign(close, { type: "button", className: "quiet", textContent: "✕" });
  close.dataset.action = "close-notice";
  box.append(text, close);
  $("notices").replaceChildren(box);
}

// ---- panel
const panelStation = () => document.querySelector(".open-panel")?.dataset.station;

function openStation(station, body = view.selected, headers = {}) {
  const url = `/shots/${shot}/${station}${body ? `?body=${encodeURIComponent(body)}` : ""}`;
  htmx.ajax("GET", url, { target: "#panel", swap: "innerHTML", headers }).then(() => { if (panelStation() === station) history.replaceState(null, "", url); });
}

// Another station or body starts at its top; the same one, drawn anew, stays where it was scrolled to.
const opened = () => { const panel = document.querySelector(".open-panel"); return `${panel?.dataset.station} ${panel?.dataset.body}`; };
document.addEventListener("htmx:beforeSwap", (event) => { if (event.target.id === "panel") state.opened = opened(); });
document.addEventListener("htmx:afterSwap", (event) => { if (event.target.id === "panel" && state.opened !== opened()) $("panel").scrollTop = 0; });

// On the Proxies station the proxies are drawn, whatever the button says elsewhere.
function drawProxies() {
  const on = panelStation() === "proxies";
  if (on !== view.shown.forced) {
    view.shown.forced = on;
    if (view.shown.proxies !== on) document.querySelector('[data-toggle="proxies"]').click();
  }
}

const panelRevision = () => Number(document.querySelector(".open-panel")?.dataset.revision);
const turned = (f) => f.multiple ? f.selectedOptions.length > 0 : f.selectedIndex !== Math.max([...f.options].findIndex((o) => o.defaultSelected), 0);
const typed = (f) => ["checkbox", "radio"].includes(f.type) ? f.checked !== f.defaultChecked : f.type !== "hidden" && f.value !== f.defaultValue;
const halfFilled = () => [...document.querySelectorAll("#panel select")].some(turned) || [...document.querySelectorAll("#panel input")].some(typed);

// What the panel tells is compared with what is, not with what was told last: nothing that was told can be missed.
function panelIsOld() {
  const panel = document.querySelector(".open-panel"), { status } = state;
  if (!panel || !status || editing() || halfFilled()) return false;
  return panelRevision() !== status.revision || panel.dataset.bake !== status.work.bake
    || (panelStation() === "deliver" && panel.dataset.files !== status.work.files);
}

function refreshPanel() {
  if (document.activeElement?.closest("#panel") && document.activeElement.matches("input,textarea,select")) return;
  openStation(panelStation(), view.selected, { "X-By-Itself": "1" });
}

document.addEventListener("htmx:configRequest", (event) => {
  if (event.detail.elt.classList?.contains("st") && view.selected) event.detail.parameters.body = view.selected;
});

document.addEventListener("bench-changed", async (event) => {
  const { revision } = event.detail;
  const fresh = revision !== state.revision || !state.whole;
  const grown = view.bodies.size;
  await new Promise((done) => setTimeout(done, 0));
  follow();
  if (fresh) { await loadScene(false); if (view.bodies.size !== grown) view.fit(); }
  drawProxies();
  await ask();
});

const drag = { x: 0, y: 0 };
$("stage").addEventListener("pointerdown", (event) => Object.assign(drag, { x: event.clientX, y: event.clientY }));
$("stage").addEventListener("pointerup", (event) => {
  if (view.choosing || event.button !== 0 || Math.hypot(event.clientX - drag.x, event.clientY - drag.y) > 4) return;
  if (hand.clicked(event)) return;
  const name = view.picked(event);
  if (name) hand.choice.take(name); else hand.choice.set([]);
});

// Colours and their scale; the plain mesh is back as soon as anything else is shown.
function colourBy(pack) {
  view.colour(pack);
  $("legend").hidden = !pack;
  if (!pack) return;
  const most = 1000 * Math.max(pack.head.gap_m, pack.head.overhang_m), words = most < 10 ? most.toFixed(2) : most.toFixed(1);
  $("legend").querySelector(".gap").textContent = `${words} mm`;
  $("legend").querySelector(".overhang").textContent = `${words} mm`;
  view.fit(pack.head.name);
}

const actions = {
  play: () => (state.playing ? pause() : play()),
  fit: () => view.fit(view.selected),
  keys: () => $("keys").showModal(),
  live: (button) => {
    const form = button.closest("form"), value = (name) => form.elements[name].value;
    pause();
    go(state.status.frames[0]);
    hand.choice.set([], false);
    const [body, pin] = JSON.parse(value("held")), substeps = Number.parseInt(value("substeps"), 10);
    live.begin({ body, pin, count_in: Number(value("count_in")), substeps: Number.isFinite(substeps) ? substeps : null, coarser: Number(value("coarser")) });
  },
  "draw-region": (button) => {
    const on = button.getAttribute("aria-pressed") !== "true";
    button.setAttribute("aria-pressed", String(on));
    if (on) region.begin(); else region.end();
  },
  "choose-ticked": () => {
    const names = [...document.querySelectorAll("#many [name=number]:checked")].map((box) => box.getAttribute("aria-label"));
    $("table").close();
    hand.choice.set(names);
  },
  table: async () => {
    $("table-list").innerHTML = await (await fetch(`/shots/${shot}/table`)).text();
    htmx.process($("table-list"));
    $("table").showModal();
    $("table-list").querySelector(".filter").focus();
  },
  history: async () => {
    $("history-list").innerHTML = await (await fetch(`/shots/${shot}/history`)).text();
    $("history").showModal();
  },
  light: (button) => {
    const lit = button.getAttribute("aria-pressed") === "true";
    document.querySelectorAll("[data-action=light]").forEach((b) => b.setAttribute("aria-pressed", "false"));
    button.setAttribute("aria-pressed", String(!lit));
    if (!lit) view.fit(button.dataset.body);
    view.light(button.dataset.body, lit ? [] : JSON.parse(button.dataset.faces), lit ? [] : JSON.parse(button.dataset.points));
  },
  colour: async (button) => {
    const on = button.getAttribute("aria-pressed") !== "true";
    button.setAttribute("aria-pressed", String(on));
    colourBy(on ? await fetchPack(`/shots/${shot}/fit.bin?body=${encodeURIComponent(button.dataset.body)}`) : null);
  },
  tint: (button) => tint(button.dataset.what || null),
  every: () => { player.every = !player.every; mark(); remember(); },
  picture,
  "mark-frame": () => marksOf(state.frame),
  "go-frame": (button) => { pause(); go(Number(button.dataset.frame)); },
  compare: () => {
    const ids = [...document.querySelectorAll("[name=compare]:checked")].map((b) => b.value);
    if (ids.length) location.href = `/shots/${shot}/compare?${ids.map((id) => `bake=${id}`).join("&")}`;
  },
  air: async (button) => {
    const on = button.getAttribute("aria-pressed") !== "true";
    button.setAttribute("aria-pressed", String(on));
    if (on) await air.show(shot, state.frame); else air.hide();
  },
  curve: (button) => {
    const track = JSON.parse(button.dataset.track);
    if (curves.open && curves.track.path === track.path) curves.close(); else curves.show(track);
    markCurve();
  },
  choose: (button) => {
    const on = button.getAttribute("aria-pressed") !== "true";
    button.setAttribute("aria-pressed", String(on));
    if (on) { button.closest(".rule").querySelector("input").checked = true; chooser.begin(button.dataset.body); } else chooser.end();
  },
  "go-to": (button) => { pause(); go(Number(button.dataset.frame)); view.lookAt(JSON.parse(button.dataset.at)); },
  "look-at": (button) => view.lookAt(JSON.parse(button.dataset.at)),
  pop: async (row) => { pause(); go(Number(row.dataset.frame)); await overlay(row.dataset.body); },
  peak: (row) => { $("figure").value = row.dataset.figure; pause(); go(Number(row.dataset.frame)); },
};

document.addEventListener("click", (event) => {
  const chip = event.target.closest("[data-body].chip, .open-body");
  if (chip) {
    if ($("table").open) $("table").close();
    if (event.shiftKey) hand.choice.toggle(chip.dataset.body); else hand.choice.set([chip.dataset.body]);
    return;
  }
  const group = event.target.closest("[data-group]");
  if (group) { hand.choice.set(view.groups.find((one) => one.name === group.dataset.group)?.bodies ?? []); return; }
  const toggle = event.target.closest("[data-toggle]");
  if (toggle) {
    toggle.setAttribute("aria-pressed", view.toggle(toggle.dataset.toggle));
    if (toggle.dataset.toggle === "render" && state.frames) openFrames(state.frames.id).then(show);
    return;
  }
  const button = event.target.closest("[data-action]");
  if (!button || !actions[button.dataset.action]) return;
  actions[button.dataset.action](button);
  if (event.detail) button.blur();  // after a click of the mouse, space plays again
});

$("figure").addEventListener("change", () => { show(); remember(); $("figure").blur(); });
document.addEventListener("theme-changed", () => { view.restyle(); show(); });
document.addEventListener("change", (event) => { if (event.target.id === "format") gltf(); });
function gltf() {
  const format = $("format");
  if (!format) return;
  $("units").hidden = format.value === "glb";
  $("units").style.display = format.value === "glb" ? "none" : "";
  $("gltf-note").hidden = format.value !== "glb";
  const tracks = ["csv", "json"].includes(format.value);
  $("meshes").hidden = tracks;
  $("angle-order").hidden = !tracks;
}
document.addEventListener("htmx:afterSettle", gltf);
document.addEventListener("htmx:afterSettle", (event) => { if (event.target.id === "panel") {
  if (panelStation() !== "review" && tinted) tint(null);
  else if (tinted) document.querySelectorAll("[data-action=tint]").forEach((b) => b.setAttribute("aria-checked", String((b.dataset.what || null) === state.tint)));
  readCurve(); if (chooser.name) chooser.end(); if (region.on) region.end(); } });
document.addEventListener("htmx:afterSettle", (event) => { if (event.target.id === "panel" && view.coloured) colourBy(null); });
gltf();
// Overlaps are drawn while the Start station lists them.
document.addEventListener("htmx:afterSettle", () => {
  const list = $("pairs");
  if (list && !list.dataset.drawn) { list.dataset.drawn = "yes"; view.showPairs(JSON.parse(list.dataset.pairs)); }
  else if (!list && view.pairs) view.showPairs([]);
});

// ---- keys
const stations = [...document.querySelectorAll(".st")].map((a) => a.dataset.station);
document.addEventListener("keydown", (event) => {
  const typing = event.target.matches("input,textarea,select") || document.querySelector("dialog[open]");
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z" && !typing) {
    event.preventDefault();
    $(event.shiftKey ? "redo" : "undo").click();
    return;
  }
  if (typing || event.ctrlKey || event.metaKey || event.altKey) return;
  const frame = state.frame;
  const keys = {
    " ": actions.play, ",": () => { pause(); go(frame - 1); }, ".": () => { pause(); go(frame + 1); },
    ArrowLeft: () => { pause(); go(frame - 1); }, ArrowRight: () => { pause(); go(frame + 1); },
    Home: () => { pause(); go(state.status.frames[0]); }, End: () => { pause(); go(doneFrame() ?? state.status.frames[1]); },
    m: () => document.querySelector('[data-toggle="lines"]').click(),
    p: () => document.querySelector('[data-toggle="proxies"]').click(),
    r: () => document.querySelector('[data-toggle="render"]:not([hidden])')?.click(),
    "[": () => setLoop(0), "]": () => setLoop(1), "\\": () => setLoop(null), e: actions.every, s: actions.picture, x: () => marksOf(state.frame),
    w: () => document.querySelector("[data-action=air]").click(),
    h: () => document.querySelector('[data-toggle="human"]').click(),
    B: () => send(`/shots/${shot}/bake-rough`, () => ({ base: panelRevision() })),
    b: () => send(`/shots/${shot}/bake`),
    k: () => { if (curves.open && !event.target.closest("#curves svg")) curves.add(); },
    0: actions.fit, t: actions.table, "?": actions.keys, Escape: () => (curves.open ? (curves.close(), markCurve()) : chooser.name ? refreshPanel() : hand.choice.set([])),
    v: () => hand.next(), d: () => hand.act("down"), Delete: () => hand.act("remove"), n: () => hand.focus(), "/": () => $("by-name").focus(),
  };
  if (/^[1-8]$/.test(event.key)) { event.preventDefault(); openStation(stations[event.key - 1]); return; }
  const run = keys[event.key] || keys[event.key.toLowerCase()];
  if (run && !(event.key === " " && event.target.matches("button,a"))) { event.preventDefault(); run(); }
});

// ---- dropping a file anywhere on the viewport
const port = $("viewport");
port.addEventListener("dragover", (event) => { event.preventDefault(); port.classList.add("dropping"); });
port.addEventListener("dragleave", () => port.classList.remove("dropping"));
port.addEventListener("drop", async (event) => {
  event.preventDefault();
  port.classList.remove("dropping");
  const files = [...event.dataTransfer.files];
  if (!files.length) return;
  const put = () => {
    const input = document.querySelector("#drop input[type=file]");
    const list = new DataTransfer();
    for (const file of files) list.items.add(file);
    input.files = list.files;
    input.dispatchEvent(new Event("change"));
  };
  if (panelStation() !== "intake") { openStation("intake"); document.addEventListener("htmx:afterSettle", put, { once: true }); }
  else put();
});

await loadScene(true);
mark();
drawProxies();
await ask();
listen(shot, told, ask);

// Files dropped anywhere on the panel go through the picker, as if chosen there.
document.addEventListener("dragover", (event) => { if (document.getElementById("drop")) event.preventDefault(); });
document.addEventListener("drop", (event) => {
  const form = document.getElementById("drop");
  if (!form || !event.dataTransfer.files.length) return;
  event.preventDefault();
  form.querySelector("input[type=file]").files = event.dataTransfer.files;
  form.requestSubmit();
});
document.addEventListener("htmx:xhr:progress", (event) => {
  const bar = event.target.querySelector && event.target.querySelector("progress.sending");
  if (bar && event.detail.lengthComputable) bar.value = 100 * event.detail.loaded / event.detail.total;
});

// The table of bodies: filter rows, tick those shown, show the field that fits what is set.
const shownRows = () => [...document.querySelectorAll("#many tbody tr, #many table tr")].filter((row) => row.querySelector("[name=number]") && !row.hidden);
function countTicked() {
  const count = document.querySelectorAll("#many [name=number]:checked").length;
  $("many-count").textContent = count;
  document.querySelector("#many .go").disabled = !count;
}
document.addEventListener("input", (event) => {
  if (!event.target.matches("#many .filter")) return;
  const words = event.target.value.toLowerCase().split(/\s+/).filter(Boolean);
  document.querySelectorAll("#many tr").forEach((row) => {
    const box = row.querySelector("[name=number]");
    if (!box) return;
    const text = row.textContent.toLowerCase();
    row.hidden = !words.every((word) => text.includes(word));
    if (row.hidden) box.checked = false;
  });
  countTicked();
});
document.addEventListener("change", (event) => {
  if (event.target.id === "many-all") shownRows().forEach((row) => { row.querySelector("[name=number]").checked = event.target.checked; });
  if (event.target.matches("#many [name=number], #many-all")) countTicked();
  if (event.target.matches("#many [name=what]")) {
    const chosen = document.querySelector(`#many [data-of="${event.target.value}"]`);
    document.querySelectorAll("#many [data-of]").forEach((list) => { list.hidden = list.disabled = list !== chosen; });
    document.querySelector("#many .of-choice").hidden = !chosen;
    document.querySelector("#many .of-number").hidden = Boolean(chosen);
  }
});
document.addEventListener("htmx:afterRequest", (event) => {
  if (event.target.id === "many" && event.detail.successful) $("table").close();
});
