// A trial sheet: all trials move by one clock, seen by one camera, each in its own cell of one canvas.
import * as THREE from "/static/vendor/three/three.module.js";
import { OrbitControls } from "/static/vendor/three/OrbitControls.js";
import { fetchPack } from "./pack.js";
import { FINER, Flipbook } from "./flipbook.js";
import { Frames } from "./frames.js";
import { Ghost } from "./ghost.js";
import { Ribbon } from "./ribbon.js";
import { Stage, css } from "./stage.js";
import { Tinted } from "./ramp.js";

const $ = (id) => document.getElementById(id);
const sheet = $("sheet"), first = Number(sheet.dataset.first), last = Number(sheet.dataset.last), fps = Number(sheet.dataset.fps);
const state = { frame: first, playing: false, picked: 0, played: 0 };
const trials = new Map();
const cells = () => [...document.querySelectorAll(".cell:not([hidden])")];
// Without a graphics card, smooth edges and shine take most of the time of many cells at once.
const renderer = new THREE.WebGLRenderer({ canvas: $("multiple"), antialias: cells().length <= 4, alpha: true });
renderer.setPixelRatio(Math.min(devicePixelRatio, 2));  // see keepPace
renderer.setScissorTest(true);
const camera = new THREE.PerspectiveCamera(36, 1, 0.01, 500);
camera.position.set(0.62, 0.36, 0.86);
const controls = new OrbitControls(camera, $("multiple"));
controls.addEventListener("change", changed);
const ribbon = new Ribbon($("ribbon"), (frame) => { pause(); go(frame); });
const ends = () => Math.max(...[...trials.values()].map((t) => t.begin + t.done - 1), first);
const book = new Flipbook($("multiple"), $("pictures"), {
  busy: () => state.playing || pressed || over,
  frames: () => { const count = ends() - first + 1; return Array.from({ length: count }, (_, k) => first + (state.frame - first + k) % count); },
  ready: (frame) => [...trials.values()].every((t) => { if (t.frames) t.frames.want(frame, t.begin + t.done - 1); return t.ready && isHere(t, frame); }),
  draw: (frame, begins) => {
    if (begins) renderer.setPixelRatio(FINER * Math.max(0.5, sharp * book.sharpness(ends() - first + 1)));
    place(frame);
    drawNow();
  },
  // What lies under the pictures is where we are again.
  after: () => { renderer.setPixelRatio(pace.ratio); place(state.frame); draw(); book.show(state.frame); },
  changed: (count) => { $("drawn").textContent = count && count < ends() - first + 1 ? `${count} drawn` : ""; },
});
let pressed = false;
window.zembrik = { state, trials, book };  // for tests and the curious

// As many columns as make the cells widest for the room there is.
function arrange() {
  const count = cells().length || 1, { clientWidth: w, clientHeight: h } = $("cells");
  let best = 1, most = 0;
  for (let columns = 1; columns <= count; columns++) {
    const size = Math.min(w / columns, 1.6 * h / Math.ceil(count / columns));
    if (size > most) { most = size; best = columns; }
  }
  $("cells").style.gridTemplateColumns = `repeat(${best}, minmax(0, 1fr))`;
  $("cells").style.gridTemplateRows = `repeat(${Math.ceil(count / best)}, minmax(0, 1fr))`;
  renderer.setSize(w, h, false);
  changed();
}

// Something else is to be seen than was drawn.
function changed() {
  book.clear();
  draw();
}

let pending = 0;
function draw() {
  pending ||= requestAnimationFrame(() => { pending = 0; drawNow(); });
}
function drawNow() {
  const all = $("cells").getBoundingClientRect();
  renderer.setScissor(0, 0, all.width, all.height);
  renderer.clear();
  for (const cell of cells()) {
    const trial = trials.get(Number(cell.dataset.trial));
    if (!trial?.ready) continue;
    const box = cell.getBoundingClientRect();
    const x = box.left - all.left, y = all.bottom - box.bottom;
    renderer.setViewport(x, y, box.width, box.height);
    renderer.setScissor(x, y, box.width, box.height);
    camera.aspect = box.width / box.height;
    camera.updateProjectionMatrix();
    renderer.render(trial.stage.scene, camera);
  }
}

function fit() {
  const cell = cells()[0], one = [...trials.values()].find((t) => t.ready);
  if (!cell || !one) return;
  camera.aspect = cell.clientWidth / cell.clientHeight;
  one.stage.aim(camera, controls.target);
  controls.update();
  changed();
}

async function open(id) {
  const trial = { id, stage: new Stage(cells().length > 4), frames: null, done: 0, begin: first, figures: {}, ready: false };
  trials.set(id, trial);
  trial.stage.setScene(await fetchPack(`/bakes/${id}/scene.bin`));
  trial.ready = true;
  await follow(trial);
}

// How far a trial's bake is; its frames can be looked at while it goes on.
async function follow(trial) {
  const answer = await fetch(`/bakes/${trial.id}/figures.json`);
  if (!answer.ok) return;
  const told = await answer.json();
  trial.begin = told.first;
  trial.figures = told.figures;
  if (trial.done !== told.done) book.clear();
  trial.done = told.done;
  if (!trial.frames && trial.done) {
    trial.frames = await new Frames(trial.id, show).open((pack) => trial.stage.shapes(pack));
    trial.stage.setBaked(trial.frames.bodies);
  }
}

const isHere = (t, frame) => !t.frames || frame > t.begin + t.done - 1 || t.frames.has(frame);

// Puts everything where it is at a frame.
function place(frame) {
  for (const trial of trials.values()) {
    if (!trial.ready) continue;
    const end = trial.begin + trial.done - 1;
    if (trial.frames && frame <= end) {
      trial.frames.want(frame, end);
      const bodies = trial.frames.at(frame);
      if (bodies) trial.stage.setFrame(bodies);
    } else trial.stage.showStart();
    trial.stage.moveTo(frame - first);
  }
}

// Returns whether a picture was there, and nothing had to be drawn.
function show() {
  const kept = !over && book.show(state.frame);
  if (!kept || !state.playing) place(state.frame);
  for (const trial of trials.values()) {
    const end = trial.begin + trial.done - 1;
    document.querySelector(`.cell[data-trial="${trial.id}"] .cell-state`).textContent =
      trial.frames && state.frame <= end ? "" : trial.done ? `baked to ${end}` : "not baked yet";
    if (trial.tinted) showOver(trial);
  }
  const trial = trials.get(state.picked), figure = $("figure").value, unit = $("figure").selectedOptions[0].dataset.unit;
  const values = trial?.figures[figure] || [];
  ribbon.set({ first, last, begin: trial?.begin ?? first, done: trial?.done ?? 0, values, frame: state.frame, stale: false, active: false });
  $("now").textContent = String(state.frame).padStart(3, "0");
  $("of").textContent = `of ${last} · ${fps} fps`;
  const here = trial ? values[state.frame - trial.begin] : undefined;
  $("peak").textContent = trial?.ready && trial.done && !values.length ? "not measured in this cache" : here === undefined ? "" : `${Number(here.toPrecision(3))} ${unit} here`;
  $("of-trial").textContent = trial ? document.querySelector(`.cell[data-trial="${state.picked}"] figcaption`)?.textContent ?? "" : "";
  if (!kept) draw();
  return kept;
}

// ---- laid over: the one that is held against as lines in every other cell, whose colours tell the way between
let over = false;
const chosen = () => Number(document.getElementById("trial-table").dataset.chosen);
function layOver(on) {
  const base = trials.get(chosen());
  over = on && Boolean(base?.frames);
  book.on = !over;
  book.clear();
  state.top = 0;
  for (const trial of trials.values()) {
    trial.tinted?.end();
    trial.ghost?.end();
    trial.tinted = trial.ghost = null;
    if (!over || trial === base || !trial.frames) continue;
    trial.tinted = new Tinted(trial.stage, trial.id, "apart", base.id);
    trial.tinted.scale = (top) => {  // one scale for all: when one needs more, the others are drawn anew
      if (top > state.top) { state.top = top; for (const t of trials.values()) if (t !== trial && t.tinted?.head) t.tinted.again(); }
      return state.top;
    };
    trial.tinted.came = (head) => { $("ramp").querySelector(".most").textContent = `${Number(state.top.toPrecision(3))} ${head.unit}`; draw(); };
    trial.ghost = new Ghost(css("--rain"));
    trial.stage.scene.add(trial.ghost);
  }
  $("ramp").hidden = !over;
  $("lay-over").setAttribute("aria-pressed", String(over));
  $("lay-over").disabled = !base?.frames;
  show();
}

function showOver(trial) {
  const base = trials.get(chosen()), end = trial.begin + trial.done - 1, both = base && state.frame <= Math.min(end, base.begin + base.done - 1);
  trial.ghost.visible = Boolean(both);
  if (!both) return;
  trial.tinted.show(state.frame);
  base.frames.want(state.frame, base.begin + base.done - 1);
  const bodies = base.frames.at(state.frame);
  if (!bodies) return;
  trial.ghost.put(bodies);
}

function go(frame) { state.frame = Math.max(first, Math.min(last, frame)); show(); }

// Where drawing all cells takes longer than a frame, they are drawn coarser while they move, and sharp again at rest.
const sharp = Math.min(devicePixelRatio, 2), COARSEST = 0.3;
const pace = { ratio: sharp, enough: sharp, shown: 0, late: 0 };  // enough: how coarse it had to be last time
function keepPace(now) {
  const wanted = 1000 / fps, took = now - pace.shown;
  pace.shown = now;
  pace.late = took > 1.3 * wanted && took < 2000 ? pace.late + 1 : 0;
  if (pace.late >= 2 && pace.ratio > COARSEST) {
    pace.late = 0;
    pace.enough = Math.max(COARSEST, pace.ratio * Math.min(0.8, Math.max(0.5, Math.sqrt(wanted / took))));
    sharpness(pace.enough);
  }
}
function sharpness(ratio) {
  pace.ratio = ratio;
  renderer.setPixelRatio(ratio);
  draw();
}

let began = 0, beganAt = first;
function play() {
  if (state.frame >= last) state.frame = first;
  state.playing = true;
  if (pace.enough !== pace.ratio && book.size <= ends() - first) sharpness(pace.enough);
  began = pace.shown = performance.now();
  beganAt = state.frame;
  mark();
  requestAnimationFrame(tick);
}
function pause() {
  if (state.playing) book.soon();
  state.playing = false;
  pace.late = 0;
  place(state.frame);  // pictures alone were shown
  if (pace.ratio !== sharp) sharpness(sharp);
  mark();
}
function mark() {
  document.querySelector("#play path").setAttribute("d", state.playing ? "M4 2.5h3v11H4zM9 2.5h3v11H9z" : "M4 2.5v11l9-5.5z");
  $("play").setAttribute("aria-label", state.playing ? "Pause" : "Play");
}

// By one clock: a frame is shown when every trial that has it has it here.
function tick(now) {
  if (!state.playing) return;
  const end = ends();
  let due = Math.min(beganAt + Math.max(0, Math.floor(((now - began) / 1000) * fps)), end);  // a turn's time can lie before the press
  const here = (frame) => book.has(frame) || [...trials.values()].every((t) => isHere(t, frame));
  for (const t of trials.values()) t.frames?.want(state.frame, t.begin + t.done - 1);
  const wanted = due;
  while (due > state.frame && !here(due)) due--;
  if (due !== state.frame) { state.frame = due; state.played++; if (!show()) keepPace(now); }
  if (wanted - due > fps / 4) { began = now; beganAt = due; }
  if (due >= end) { pause(); return; }
  requestAnimationFrame(tick);
}

function pick(id) {
  state.picked = id;
  document.querySelectorAll(".cell, #trial-table tr").forEach((e) => e.classList.toggle("picked", Number(e.dataset.trial) === id));
  show();
}

// ---- the table: sorting stays as chosen while it is drawn anew
let sorted = null;
function sort() {
  if (!sorted) return;
  const body = document.querySelector("#trial-table tbody");
  const value = (row) => {
    const text = row.dataset[sorted.by];
    return sorted.by === "text" ? text : text === "" ? Infinity : Number(text);
  };
  const rows = [...body.rows].sort((a, b) => (value(a) < value(b) ? -1 : value(a) > value(b) ? 1 : 0) * sorted.way);
  body.append(...rows);
  document.querySelectorAll("[data-sort]").forEach((b) => b.closest("th").setAttribute("aria-sort",
    b.dataset.sort === sorted.by ? (sorted.way > 0 ? "ascending" : "descending") : "none"));
}

document.addEventListener("click", (event) => {
  const header = event.target.closest("[data-sort]");
  if (header) {
    const by = header.dataset.sort;
    sorted = { by, way: sorted?.by === by ? -sorted.way : 1 };
    sort();
  }
  const trial = event.target.closest(".pick-trial");
  if (trial) pick(Number(trial.closest("[data-trial]").dataset.trial));
});

// The canvas lies over the cells: a press that is no drag picks the one below it.
const press = { x: 0, y: 0 };
$("multiple").addEventListener("pointerdown", () => { pressed = true; });
addEventListener("pointerup", () => { pressed = false; book.soon(); });
$("multiple").addEventListener("pointerdown", (event) => Object.assign(press, { x: event.clientX, y: event.clientY }));
$("multiple").addEventListener("pointerup", (event) => {
  if (event.button !== 0 || Math.hypot(event.clientX - press.x, event.clientY - press.y) > 4) return;
  const cell = document.elementsFromPoint(event.clientX, event.clientY).find((e) => e.matches(".cell"));
  if (cell) pick(Number(cell.dataset.trial));
});

document.addEventListener("htmx:afterSwap", async (event) => {
  if (event.target.id !== "trial-table" && !document.getElementById("trial-table")?.contains(event.target)) return;
  const left = new Set([...document.querySelectorAll("#trial-table tbody tr")].map((row) => Number(row.dataset.trial)));
  for (const cell of document.querySelectorAll(".cell")) cell.hidden = !left.has(Number(cell.dataset.trial));
  sort();
  pick(left.has(state.picked) ? state.picked : [...left][0] ?? 0);
  await Promise.all([...trials.values()].filter((t) => left.has(t.id)).map(follow));
  arrange();
  layOver(over);
});

document.addEventListener("keydown", (event) => {
  const cell = event.target.closest?.(".cell");
  if (cell && event.key === "Enter") { pick(Number(cell.dataset.trial)); return; }
  if (event.target.matches?.("input,select,textarea") || event.ctrlKey || event.metaKey || event.altKey) return;
  const keys = {
    " ": () => (state.playing ? pause() : play()), ",": () => { pause(); go(state.frame - 1); }, ".": () => { pause(); go(state.frame + 1); },
    ArrowLeft: () => { pause(); go(state.frame - 1); }, ArrowRight: () => { pause(); go(state.frame + 1); },
    Home: () => { pause(); go(first); }, End: () => { pause(); go(last); }, 0: fit, o: () => layOver(!over),
  };
  const run = keys[event.key];
  if (run && !(event.key === " " && event.target.matches?.("button,a"))) { event.preventDefault(); run(); }
});
$("lay-over").addEventListener("click", () => layOver(!over));
$("play").addEventListener("click", () => (state.playing ? pause() : play()));
$("figure").addEventListener("change", () => { show(); $("figure").blur(); });
document.addEventListener("theme-changed", () => { for (const t of trials.values()) t.stage.restyle(); book.clear(); show(); });
new ResizeObserver(arrange).observe($("cells"));

arrange();
await Promise.all(cells().map((cell) => open(Number(cell.dataset.trial))));
fit();
// It opens where there is something to compare: the last frame that all have.
const baked = [...trials.values()].map((t) => t.begin + t.done - 1);
if (baked.length) state.frame = Math.max(first, Math.min(...baked, last));
pick(Number(cells()[0]?.dataset.trial ?? 0));
layOver(false);
