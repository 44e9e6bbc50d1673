// Pennants: small flags on poles around what is chosen, by which it is moved, turned and sized. A gesture is drawn here and
// sent as numbers; what comes of it is worked out by the server.
import * as THREE from "/static/vendor/three/three.module.js";

const POLE_PX = 84;
const BOW = 0.6; // radians to each side of a flag that turns
const AXES = [new THREE.Vector3(1, 0, 0), new THREE.Vector3(0, 1, 0), new THREE.Vector3(0, 0, 1)];
const LETTERS = "XYZ";
export const KINDS = ["move", "turn", "size"];
const STEPS = { move: 0.1, turn: 15, size: 0.1 }; // with Shift held, and of an arrow key with Shift
const FINE = { move: 0.01, turn: 1, size: 0.01 };

// What each flag does: where its pole ends, in pole lengths along X, Y, Z, and its letters.
const FLAGS = {
  move: [
    ...AXES.map((axis, k) => ({ what: "axis", k, at: axis, text: LETTERS[k], title: `Along ${LETTERS[k]}` })),
    ...[[0, 2], [0, 1], [1, 2]].map(([i, j]) => ({
      what: "plane", k: 3 - i - j, at: AXES[i].clone().add(AXES[j]).multiplyScalar(0.46), text: LETTERS[i] + LETTERS[j], title: `In the plane of ${LETTERS[i]} and ${LETTERS[j]}` })),
    { what: "free", at: new THREE.Vector3(), text: "", title: "Freely, or onto surfaces" },
  ],
  turn: [
    ...AXES.map((_, k) => ({
      what: "turn", k, at: AXES[(k + 1) % 3].clone().add(AXES[(k + 2) % 3]).multiplyScalar(Math.SQRT1_2), text: LETTERS[k], title: `About ${LETTERS[k]}` })),
    { what: "spin", at: new THREE.Vector3(), text: "", title: "About the line of sight" },
  ],
  size: [{ what: "size", at: new THREE.Vector3(0.62, 0.62, 0.62), text: "×", title: "Larger or smaller" }],
};

function drawn(name, values) {
  const part = document.createElementNS("http://www.w3.org/2000/svg", name);
  for (const [key, value] of Object.entries(values)) part.setAttribute(key, value);
  return part;
}

export class Pennants {
  // home: the element over the canvas. told: is given what a gesture amounts to while it goes on. done: takes it when it ends.
  constructor(view, home, told, done) {
    Object.assign(this, { view, home, told, done, kind: "move", names: [], pivot: null, options: { pivot: "own", snap: "none", grid: 0.1 } });
    this.lines = document.createElementNS("http://www.w3.org/2000/svg", "svg");
    this.lines.setAttribute("aria-hidden", "true");
    home.append(this.lines);
    view.drawn = () => this.place();
    document.addEventListener("keydown", (event) => this.key(event), { capture: true });
    this.show();
  }

  // Shows the flags around bodies; none of them takes the flags away.
  around(names) {
    if (this.active) this.end(false);
    this.names = names;
    this.clicked = null;
    this.show();
  }

  use(kind) { this.kind = kind; this.show(); }

  get shown() { return this.names.length > 0 && this.view.atStart && !this.names.some((name) => this.view.bodies.get(name)?.locked); }

  // Where the flags stand: a clicked point, the last body's own origin, or the middle of all.
  standing() {
    if (this.options.pivot === "clicked" && this.clicked) return this.clicked.clone();
    if (this.options.pivot === "middle" || this.names.length > 1) return this.view.middle(this.names);
    return new THREE.Vector3(...(this.view.bodies.get(this.names[0])?.entry.origin ?? [0, 0, 0]));
  }

  show() {
    this.home.querySelectorAll("button").forEach((button) => button.remove());
    this.flags = [];
    if (this.shown) {
      this.flags = FLAGS[this.kind].map((flag) => {
        const button = document.createElement("button");
        button.type = "button";
        button.className = `pennant ${flag.what}`;
        button.textContent = flag.text;
        button.title = `${flag.title}; drag, or arrow keys`;
        button.setAttribute("aria-label", `${this.kind}: ${flag.title}`);
        button.addEventListener("pointerdown", (event) => this.press(event, flag, button));
        button.addEventListener("keydown", (event) => this.nudge(event, flag));
        button.addEventListener("blur", () => { if (this.active?.keyed) this.end(true); });
        this.home.append(button);
        return { ...flag, button };
      });
    }
    this.place();
  }

  // Puts flags and poles where the camera sees them.
  place() {
    const poles = [];
    if (this.flags.length) {
      const base = (this.active ? this.active.pivot.clone().add(this.active.move) : this.standing());
      const long = POLE_PX * this.view.metresPerPixel(base), foot = this.view.onCanvas(base);
      for (const flag of this.flags) {
        const tip = this.view.onCanvas(base.clone().addScaledVector(flag.at, long));
        flag.button.hidden = !tip || !foot;
        if (!tip || !foot) continue;
        flag.button.style.left = `${tip[0]}px`;
        flag.button.style.top = `${tip[1]}px`;
        if (flag.what === "axis" || flag.what === "size") poles.push(drawn("line", { class: `pole p${flag.k ?? 0}`, x1: foot[0], y1: foot[1], x2: tip[0], y2: tip[1] }));
        if (flag.what === "turn") poles.push(this.bow(base, flag.k, long));
      }
    }
    this.lines.replaceChildren(...poles);
  }

  // A piece of the round about an axis, to both sides of its flag.
  bow(base, k, long) {
    const [one, two] = [AXES[(k + 1) % 3], AXES[(k + 2) % 3]], dots = [];
    for (let n = -8; n <= 8; n++) {
      const a = Math.PI / 4 + (n / 8) * BOW;
      const at = this.view.onCanvas(base.clone().addScaledVector(one, long * Math.cos(a)).addScaledVector(two, long * Math.sin(a)));
      if (at) dots.push(at.map((v) => v.toFixed(1)).join(","));
    }
    return drawn("polyline", { class: `bow p${k}`, points: dots.join(" ") });
  }

  // ---- a gesture
  begin(flag) {
    const pivot = this.standing();
    this.active = { flag, pivot, move: new THREE.Vector3(), angle: 0, factor: 1, axis: new THREE.Vector3(0, 1, 0), typed: "" };
    if (flag.what === "turn") this.active.axis.copy(AXES[flag.k]);
    if (flag.what === "spin") this.active.axis.copy(this.view.camera.getWorldDirection(new THREE.Vector3())).negate();
    this.active.held = this.names.map((name) => {
      const { group } = this.view.bodies.get(name);
      group.updateMatrix();
      const was = { name, group, auto: group.matrixAutoUpdate, matrix: group.matrix.clone() };
      group.matrixAutoUpdate = false;
      return was;
    });
  }

  press(event, flag, button) {
    if (event.button !== 0) return;
    event.preventDefault();
    button.focus({ preventScroll: true });
    if (this.active) this.end(true);
    this.begin(flag);
    const { active } = this, ray = this.view.sight(event);
    active.from = this.reached(ray, event);
    active.last = 0;
    button.setPointerCapture(event.pointerId);
    button.classList.add("held");
    const move = (now) => { if (this.active === active && !active.typed) { this.follow(now); this.preview(); } };
    const up = () => {
      button.removeEventListener("pointermove", move);
      button.classList.remove("held");
      if (this.active === active && !active.typed) this.end(true);
    };
    button.addEventListener("pointermove", move);
    button.addEventListener("pointerup", up, { once: true });
    button.addEventListener("pointercancel", () => { button.removeEventListener("pointermove", move); if (this.active === active) this.end(false); }, { once: true });
  }

  // What a line of sight reaches of what the flag keeps to: a length along an axis, a place in a plane, an angle, a distance.
  reached(ray, event) {
    const { flag, pivot, axis } = this.active, line = ray.ray;
    if (flag.what === "axis") {
      const way = AXES[flag.k], across = pivot.clone().sub(line.origin), b = way.dot(line.direction);
      const flat = Math.max(1 - b * b, 1e-4);
      return (b * across.dot(line.direction) - across.dot(way)) / flat;
    }
    if (flag.what === "plane" || flag.what === "free") {
      const normal = flag.what === "plane" ? AXES[flag.k] : this.view.camera.getWorldDirection(new THREE.Vector3());
      return line.intersectPlane(new THREE.Plane().setFromNormalAndCoplanarPoint(normal, pivot), new THREE.Vector3()) ?? this.active.from ?? pivot.clone();
    }
    const box = this.view.canvas.getBoundingClientRect(), foot = this.view.onCanvas(pivot) ?? [0, 0];
    const [x, y] = [event.clientX - box.left - foot[0], event.clientY - box.top - foot[1]];
    if (flag.what === "size") return Math.max(Math.hypot(x, y), 4);
    const facing = this.view.camera.position.clone().sub(pivot).normalize().dot(axis);
    if (flag.what === "turn" && Math.abs(facing) > 0.25) {
      const at = line.intersectPlane(new THREE.Plane().setFromNormalAndCoplanarPoint(axis, pivot), new THREE.Vector3());
      if (at) { at.sub(pivot); return THREE.MathUtils.radToDeg(Math.atan2(at.dot(AXES[(flag.k + 2) % 3]), at.dot(AXES[(flag.k + 1) % 3]))); }
    }
    return -THREE.MathUtils.radToDeg(Math.atan2(y, x)) * (facing < 0 ? -1 : 1);
  }

  follow(event) {
    const { active } = this, { flag } = active, ray = this.view.sight(event), now = this.reached(ray, event);
    const stepped = (v, kind) => event.shiftKey ? Math.round(v / STEPS[kind]) * STEPS[kind] : v;
    active.surface = null;
    if (flag.what === "axis") active.move.copy(AXES[flag.k]).multiplyScalar(stepped(now - active.from, "move"));
    else if (flag.what === "plane") active.move.copy(now).sub(active.from);
    else if (flag.what === "free") {
      if (["upright", "along"].includes(this.options.snap)) this.ontoSurface(ray);
      else active.move.copy(now).sub(active.from);
    } else if (flag.what === "size") active.factor = stepped(now / active.from, "size") || 0.1;
    else {
      let by = now - active.from - active.last;
      by -= 360 * Math.round(by / 360); // the shorter way round from where it was last: turns go on beyond a whole one
      active.raw = (active.raw ?? 0) + by;
      active.last = active.raw;
      active.angle = stepped(active.raw, "turn");
    }
    if (flag.what === "plane" || (flag.what === "free" && !active.surface))
      active.move.set(...active.move.toArray().map((v) => stepped(v, "move")));
    this.snap(flag);
  }

  // The lowest place of what is moved onto the surface that is pointed at; how it stands is worked out when it is let go.
  ontoSurface(ray) {
    const hit = this.view.hit(ray, new Set(this.names)), { active } = this, lead = this.view.boundsOf([this.names.at(-1)]);
    let at = hit?.point, normal = hit?.face?.normal.clone().transformDirection(hit.object.matrixWorld);
    if (normal && normal.dot(ray.ray.direction) > 0) normal.negate(); // the side that is seen
    const level = this.view.groundHeight;
    if (level !== null && level !== undefined && ray.ray.direction.y < 0) {
      const ground = ray.ray.intersectPlane(new THREE.Plane(new THREE.Vector3(0, 1, 0), -level), new THREE.Vector3());
      if (ground && (!at || ground.distanceTo(ray.ray.origin) < at.distanceTo(ray.ray.origin))) { at = ground; normal = new THREE.Vector3(0, 1, 0); }
    }
    if (!at) return;
    active.surface = { point: at.toArray(), normal: normal.toArray() };
    const middle = lead.getCenter(new THREE.Vector3());
    active.move.set(at.x - middle.x, at.y - lead.min.y, at.z - middle.z);
  }

  // Onto a typed grid, or a neighbour's side, for what moves along axes.
  snap(flag) {
    const { active } = this, { snap, grid } = this.options;
    if (!["axis", "plane"].includes(flag.what) || snap === "none" || snap === "upright" || snap === "along") return;
    const free = [0, 1, 2].filter((k) => (flag.what === "axis" ? k === flag.k : k !== flag.k));
    const move = active.move.toArray(), pivot = active.pivot.toArray();
    if (snap === "grid" && grid > 0) for (const k of free) move[k] = Math.round((pivot[k] + move[k]) / grid) * grid - pivot[k];
    if (snap === "sides") {
      const mine = active.box ??= this.view.boundsOf(this.names), near = 10 * this.view.metresPerPixel(active.pivot);
      const others = active.others ??= [...this.view.bodies].filter(([name, b]) => !b.hidden && !this.names.includes(name)).map(([name]) => this.view.boundsOf([name]));
      for (const k of free) {
        let best = near, by = 0;
        const axis = "xyz"[k];
        for (const box of others)
          for (const [side, other] of [["min", "max"], ["max", "min"], ["min", "min"], ["max", "max"]]) {
            const off = box[other][axis] - mine[side][axis] - move[k];
            if (Math.abs(off) < best) { best = Math.abs(off); by = off; }
          }
        move[k] += by;
      }
    }
    active.move.set(...move);
  }

  // Draws what a gesture amounts to so far.
  preview() {
    const { active } = this;
    for (const { group, matrix, name } of active.held) {
      const own = this.options.pivot === "own" && this.kind !== "move" ? new THREE.Vector3(...this.view.bodies.get(name).entry.origin) : active.pivot;
      const to = new THREE.Matrix4().makeTranslation(...own.clone().add(active.move).toArray());
      to.multiply(new THREE.Matrix4().makeRotationAxis(active.axis, THREE.MathUtils.degToRad(active.angle)));
      to.multiply(new THREE.Matrix4().makeScale(active.factor, active.factor, active.factor));
      to.multiply(new THREE.Matrix4().makeTranslation(...own.clone().negate().toArray()));
      group.matrix.copy(to.multiply(matrix));
      group.matrixWorldNeedsUpdate = true;
    }
    this.told(this.amount());
    this.view.draw();
  }

  amount() {
    const { active } = this;
    return active && { move: active.move.toArray(), angle: active.angle, axis: active.axis.toArray(), factor: active.factor, surface: active.surface ?? null, kind: this.kind, typed: active.typed };
  }

  // Ends a gesture: kept, or taken back.
  end(keep) {
    const { active } = this;
    if (!active) return;
    const amount = this.amount(), moved = active.move.length() > 1e-9 || Math.abs(active.angle) > 1e-9 || Math.abs(active.factor - 1) > 1e-9;
    const pivot = this.options.pivot === "own" && this.names.length > 0 ? "own" : JSON.stringify(active.pivot.toArray());
    this.active = null;
    if (!keep || !moved) {
      for (const { group, matrix, auto } of active.held) { group.matrix.copy(matrix); group.matrixAutoUpdate = auto; group.matrixWorldNeedsUpdate = true; }
      this.told(null);
      this.view.draw();
      return;
    }
    this.told(null);
    this.done(this.names, { ...amount, pivot: this.kind === "move" ? "own" : pivot });
  }

  // ---- keys: numbers typed in the middle of a gesture, Enter and Esc
  key(event) {
    const { active } = this;
    if (!active) return;
    const stop = () => { event.preventDefault(); event.stopImmediatePropagation(); };
    if (event.key === "Escape") { stop(); this.end(false); return; }
    if (event.key === "Enter") { stop(); this.end(true); return; }
    if (/^[\d.,-]$/.test(event.key) || (event.key === "Backspace" && active.typed)) {
      stop();
      active.typed = event.key === "Backspace" ? active.typed.slice(0, -1) : active.typed + event.key.replace(",", ".");
      this.typed(Number.parseFloat(active.typed));
    }
  }

  // A typed number along the way that the hand has taken: of an axis its length, of a plane the way's length, else turn or size.
  typed(value) {
    const { active } = this, { flag } = active;
    if (!Number.isFinite(value)) { this.told(this.amount()); return; }
    if (flag.what === "axis") active.move.copy(AXES[flag.k]).multiplyScalar(value);
    else if (flag.what === "plane" || flag.what === "free") { if (active.move.length() > 0) active.move.setLength(Math.abs(value)).multiplyScalar(Math.sign(value) || 0); }
    else if (flag.what === "size") active.factor = value > 0 ? value : 1;
    else active.angle = value;
    this.preview();
  }

  // Arrow keys on a flag: finely, with Shift in larger steps; kept with Enter or when the flag is left.
  nudge(event, flag) {
    const signs = { ArrowUp: 1, ArrowRight: 1, ArrowDown: -1, ArrowLeft: -1 };
    const sign = signs[event.key];
    if (!sign || flag.what === "free" && this.kind === "move") return;
    event.preventDefault();
    event.stopPropagation();
    if (!this.active) { this.begin(flag); this.active.keyed = true; }
    const { active } = this, by = sign * (event.shiftKey ? STEPS : FINE)[this.kind];
    if (flag.what === "axis") active.move.addScaledVector(AXES[flag.k], by);
    else if (flag.what === "plane") {
      const [i, j] = [0, 1, 2].filter((k) => k !== flag.k), across = ["ArrowLeft", "ArrowRight"].includes(event.key);
      active.move.addScaledVector(AXES[across ? i : j], across || j === 1 ? by : -by);
    } else if (flag.what === "size") active.factor = Math.max(active.factor + by, 0.01);
    else active.angle += by;
    this.preview();
  }
}
