// Guiding by hand: a live run beside the server, seen here over a WebSocket, led by dragging in the viewport.
import * as THREE from "/static/vendor/three/three.module.js";
import { unpack } from "./pack.js";

const $ = (id) => document.getElementById(id);
const ALIVE_MS = 6000;
const AXES = { x: new THREE.Vector3(1, 0, 0), y: new THREE.Vector3(0, 1, 0), z: new THREE.Vector3(0, 0, 1) };

export class Live {
  // ended: is called when a live run is over. kept: is given the take that was kept.
  constructor(view, shot, { ended, kept }) {
    Object.assign(this, { view, shot, ended, kept, on: false, held: null });
    this.bar = $("live");
    this.grip = $("grip");
    const before = view.drawn;
    view.drawn = () => { before?.(); this.place(); };
    view.canvas.addEventListener("pointerdown", (event) => this.press(event), { capture: true });
    document.addEventListener("keydown", (event) => this.key(event), { capture: true });
    this.bar.addEventListener("submit", (event) => { event.preventDefault(); this.keep(); });
    this.bar.addEventListener("click", (event) => { const what = event.target.closest("[data-live]")?.dataset.live; if (what) this.act(what); });
  }

  // order: what is taken in hand, see `web/streams/live.py`.
  begin(order) {
    if (this.on) return;
    this.on = true;
    this.playing = false;
    this.ready = null;
    this.way = new THREE.Vector3();
    this.to = new THREE.Vector3();
    this.times = [];
    this.bar.hidden = false;
    this.say("getting ready …");
    this.buttons();
    this.socket = new WebSocket(`${location.protocol === "https:" ? "wss" : "ws"}://${location.host}/shots/${this.shot}/live`);
    this.socket.binaryType = "arraybuffer";
    this.socket.addEventListener("open", () => this.socket.send(JSON.stringify(order)));
    this.socket.addEventListener("message", (event) => this.take(event.data));
    this.socket.addEventListener("close", () => this.end());
    this.alive = setInterval(() => this.send({ do: "alive" }), ALIVE_MS);
  }

  send(message) { if (this.socket?.readyState === WebSocket.OPEN) this.socket.send(JSON.stringify(message)); }

  end() {
    if (!this.on) return;
    clearInterval(this.alive);
    this.on = false;
    this.held = null;
    if (this.socket.readyState < 2) this.socket.close();
    this.bar.hidden = true;
    this.grip.hidden = true;
    this.ended(this.last);
    this.last = "";
  }

  take(data) {
    if (typeof data === "string") {
      const told = JSON.parse(data);
      if (told.ready) { this.ready = told.ready; this.at = new THREE.Vector3(...told.ready.at); for (const [name, faces] of Object.entries(told.ready.faces)) this.view.setFaces(name, faces); this.say("ready: drag in the viewport, or play"); this.buttons(); }
      if (told.told) { this.say(told.told); if (!told.told.startsWith("begins")) { this.playing = false; this.buttons(); } }
      if (told.take) { this.say(`kept as '${told.name}': ${told.frames} frames${told.keys ? `, ${told.keys} keys` : ""}`); this.playing = false; this.buttons(); this.kept(told); }
      if (told.ended) this.last = told.ended;
      return;
    }
    const pack = unpack(data), { head } = pack;
    for (const body of head.bodies) {
      if (body.points) this.view.setPoints(body.name, pack.floats(body.points));
      else this.view.setPose(body.name, pack.floats(body.pose));
    }
    this.way.set(...head.way);
    this.view.setShift(this.ready.grip, this.way);
    this.frame = head.frame;
    const now = performance.now();
    this.times.push(now);
    while (this.times.length > 1 && now - this.times[0] > 1000) this.times.shift();
    if (this.sent) { this.lag = now - this.sent; this.sent = 0; }
    const rate = this.times.length > 1 ? ((this.times.length - 1) * 1000) / (now - this.times[0]) : 0;
    if (this.playing) this.say(`frame ${head.frame} · ${head.speed >= 1 ? "true speed" : `${head.speed} of true speed`} · ${rate.toFixed(0)} a second`);
    this.view.draw();
  }

  say(words) { $("live-words").textContent = words; }

  buttons() {
    const play = this.bar.querySelector("[data-live=play]");
    play.textContent = this.playing ? "Pause" : "Play";
    for (const button of this.bar.querySelectorAll("[data-live=play], [data-live=again], .go")) button.disabled = !this.ready;
    this.bar.querySelector("[data-live='let go']").hidden = this.ready?.role !== "rigid";
    this.bar.querySelector("[name=what]").hidden = this.ready?.role !== "rigid";
  }

  act(what) {
    if (what === "leave") { this.end(); return; }
    if (what === "play") { this.playing = !this.playing; this.send({ do: this.playing ? "play" : "pause" }); }
    else if (what === "again") { this.playing = false; this.to.set(0, 0, 0); this.send({ do: "again" }); this.say("at the start"); }
    else this.send({ do: what });
    this.buttons();
  }

  // The take's name, the bound of its keys, and what the viewport shows, small.
  keep() {
    const { renderer, scene, camera, canvas } = this.view, small = document.createElement("canvas");
    renderer.render(scene, camera);
    Object.assign(small, { width: 160, height: Math.round((160 * canvas.clientHeight) / canvas.clientWidth) });
    small.getContext("2d").drawImage(canvas, 0, 0, small.width, small.height);
    const value = (name) => this.bar.elements[name].value;
    const bound = Number.parseFloat(value("bound").replace(",", "."));
    this.send({ do: "keep", name: value("name"), bound_mm: Number.isFinite(bound) ? bound : 0.5, what: value("what"), picture: small.toDataURL("image/jpeg", 0.7) });
    this.bar.elements.name.value = "";
    this.playing = false;
    this.buttons();
  }

  // ---- dragging: in the plane that faces the camera, or level; along one axis while its key was pressed
  press(event) {
    if (!this.on || !this.ready || event.button !== 0 || event.altKey || event.shiftKey) return;
    event.stopImmediatePropagation();
    const { view } = this, { canvas } = view, place = this.at.clone().add(this.way);
    const hold = this.held = { axis: null, level: false, from: this.way.clone(), begin: null };
    const reached = (now) => {
      const normal = hold.level ? AXES.y : view.camera.getWorldDirection(new THREE.Vector3());
      return view.sight(now).ray.intersectPlane(new THREE.Plane().setFromNormalAndCoplanarPoint(normal, place), new THREE.Vector3());
    };
    hold.begin = reached(event);
    canvas.setPointerCapture(event.pointerId);
    canvas.style.cursor = "grabbing";
    if (!this.playing) this.act("play");
    hold.follow = (now) => {
      const at = reached(now);
      if (!at || !hold.begin) return;
      const by = at.sub(hold.begin);
      if (hold.axis) { const along = by.dot(AXES[hold.axis]); by.copy(AXES[hold.axis]).multiplyScalar(along); }
      this.to.copy(hold.from).add(by);
      if (!this.pending) this.pending = requestAnimationFrame(() => { this.pending = 0; this.sent ||= performance.now(); this.send({ to: this.to.toArray() }); });
    };
    const move = (now) => { hold.last = now; hold.follow(now); };
    hold.reset = (now) => { hold.from.copy(this.to); hold.begin = reached(now) ?? hold.begin; };
    canvas.addEventListener("pointermove", move);
    canvas.addEventListener("pointerup", () => { canvas.removeEventListener("pointermove", move); canvas.style.cursor = ""; this.held = null; this.showHold(); }, { once: true, capture: true });
    this.send({ to: this.to.toArray() });
  }

  key(event) {
    if (!this.on || event.target.matches?.("input,select,textarea")) return;
    const key = event.key.toLowerCase(), stop = () => { event.preventDefault(); event.stopImmediatePropagation(); };
    if (key === " ") { stop(); if (this.ready) this.act("play"); return; }
    if (key === "escape") { stop(); this.end(); return; }
    if (!this.held || !(key in AXES || key === "l")) return;
    stop();
    if (key === "l") { this.held.level = !this.held.level; this.held.axis = null; }
    else { this.held.axis = this.held.axis === key ? null : key; this.held.level = false; }
    if (this.held.last) this.held.reset(this.held.last);
    this.showHold();
  }

  showHold() {
    const { held } = this;
    this.grip.textContent = held?.axis ? held.axis.toUpperCase() : held?.level ? "level" : "";
  }

  place() {
    const spot = this.on && this.at ? this.view.onCanvas(this.at.clone().add(this.way)) : null;
    this.grip.hidden = !spot;
    if (spot) { this.grip.style.left = `${spot[0]}px`; this.grip.style.top = `${spot[1]}px`; }
  }
}
