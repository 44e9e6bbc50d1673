// The curve view: keys of one track over the ribbon's own frames. It draws and reports; the server keeps the truth.
const NS = "http://www.w3.org/2000/svg";
const OWN = "own";

export class Curves {
  // section: its element. range: () => [first, last]. now: () => frame. save: (track) => Promise. go: scrub to a frame.
  constructor(section, { range, now, save, go }) {
    Object.assign(this, { section, range, now, save, go });
    this.svg = section.querySelector("svg");
    this.chosen = new Set();
    new ResizeObserver(() => this.draw()).observe(this.svg);
    this.svg.addEventListener("pointerdown", (event) => this.press(event));
    this.svg.addEventListener("dblclick", (event) => this.addAt(event));
    this.svg.addEventListener("keydown", (event) => this.key(event));
    section.addEventListener("change", (event) => this.typed(event.target));
    section.addEventListener("click", (event) => {
      const what = event.target.closest("[data-curve]")?.dataset.curve;
      if (what) this[what]();
    });
  }

  get open() { return !this.section.hidden; }

  show(track) {
    const same = this.track?.path === track.path;
    const frames = same ? [...this.chosen].map((k) => this.track.keys[k]?.[0]) : [];
    const chosen = this.chosen, count = this.track?.keys.length;
    this.track = structuredClone(track);
    this.fresh = !this.track.keys.length;  // nothing is set yet: what is drawn is only an offer
    if (this.fresh) this.track.keys = [[this.range()[0], this.track.usual]];
    this.chosen = new Set(this.track.keys.flatMap((key, k) => (frames.includes(key[0]) ? [k] : [])));
    // What is shown may be from before the last key was moved: then the same keys stay chosen by their order.
    if (same && !this.chosen.size && count === this.track.keys.length) this.chosen = chosen;
    if (!same) this.chosen = new Set([0]);
    this.section.hidden = false;
    this.draw();
  }

  close() { this.section.hidden = true; this.track = null; }

  // ---- values: as the server has them, to draw between the keys
  parts(value) { return Array.isArray(value) ? value : [value]; }
  value(k, part) { return this.parts(this.track.keys[k][1])[part]; }
  ease(k) { return this.track.keys[k][2] ?? this.track.ease; }

  at(frame, part) {
    const keys = this.track.keys;
    if (frame <= keys[0][0]) return this.value(0, part);
    if (frame >= keys.at(-1)[0]) return this.value(keys.length - 1, part);
    const k = keys.findLastIndex((key) => key[0] <= frame), span = keys[k + 1][0] - keys[k][0];
    const t = (frame - keys[k][0]) / span, one = this.value(k, part), two = this.value(k + 1, part), ease = this.ease(k);
    if (ease === "hold") return one;
    if (ease === "straight") return one + t * (two - one);
    const smooth = one + t * t * (3 - 2 * t) * (two - one);
    if (ease === "smooth") return smooth;
    return smooth + span * (t * (1 - t) ** 2 * this.parts(ease.leave)[part] - t * t * (1 - t) * this.parts(ease.arrive)[part]);
  }

  // ---- places on the screen
  measure() {
    const [first, last] = this.range(), { clientWidth: w, clientHeight: h } = this.svg;
    const count = this.track.parts.length, values = [];
    for (let part = 0; part < count; part++) {
      for (let f = first; f <= last; f += Math.max(1, (last - first) / 200)) values.push(this.at(f, part));
      this.track.keys.forEach((_, k) => values.push(this.value(k, part)));
    }
    let low = Math.min(...values), high = Math.max(...values);
    if (high - low < 1e-9) { const room = Math.abs(high) * 0.5 || 1; low -= room; high += room; }
    const margin = 0.14 * (high - low);
    Object.assign(this, { first, last, w, h, low: low - margin, high: high + margin, step: w / (last - first + 1) });
  }

  x(frame) { return (frame - this.first + 0.5) * this.step; }
  y(value) { return this.h - ((value - this.low) / (this.high - this.low)) * this.h; }
  frameAt(x) { return this.first + x / this.step - 0.5; }
  valueAt(y) { return this.low + ((this.h - y) / this.h) * (this.high - this.low); }

  make(name, attributes, text) {
    const one = document.createElementNS(NS, name);
    for (const [key, value] of Object.entries(attributes)) one.setAttribute(key, value);
    if (text !== undefined) one.textContent = text;
    this.svg.append(one);
    return one;
  }

  draw() {
    if (!this.track || !this.svg.clientWidth) return;
    if (!this.held) this.measure();
    this.svg.replaceChildren();
    const size = this.high - this.low, power = 10 ** Math.floor(Math.log10(size / 3));
    const tick = [5, 2, 1].map((n) => n * power).find((n) => size / n >= 2.5) ?? power;
    for (let v = Math.ceil(this.low / tick) * tick; v < this.high; v += tick) {
      this.make("line", { x1: 0, x2: this.w, y1: this.y(v), y2: this.y(v), class: "grid" });
      this.make("text", { x: 12, y: this.y(v) - 3, class: "tick" }, `${Number(v.toPrecision(6))} ${this.track.unit}`);
    }
    const here = this.x(this.now());
    this.make("line", { x1: here, x2: here, y1: 0, y2: this.h, class: "here" });
    this.track.parts.forEach((name, part) => {
      const dots = [];
      for (let x = 0; x <= this.w; x += 2) dots.push(`${x},${this.y(this.at(this.frameAt(x), part)).toFixed(1)}`);
      this.make("polyline", { points: dots.join(" "), class: `line part${part} ${this.fresh ? "offer" : ""}` });
      if (name) this.make("text", { x: this.w - 6, y: this.y(this.at(this.last, part)) - 5, class: "name" }, name);
    });
    this.track.keys.forEach((key, k) => {
      if (this.chosen.has(k)) this.drawHandles(k);
      this.track.parts.forEach((_, part) => {
        const place = { cx: this.x(key[0]), cy: this.y(this.value(k, part)) };
        this.make("circle", { ...place, r: 5.5, class: `knob ${this.chosen.has(k) ? "chosen" : ""}`, "data-key": k, "data-part": part });
      });
    });
    if (this.box) this.make("rect", { ...this.box, class: "lasso" });
    this.fill();
  }

  drawHandles(k) {
    const ease = this.ease(k);
    if (typeof ease === "string" || k + 1 >= this.track.keys.length) return;
    const third = (this.track.keys[k + 1][0] - this.track.keys[k][0]) / 3;
    this.track.parts.forEach((_, part) => {
      for (const [end, from, sign] of [["leave", k, 1], ["arrive", k + 1, -1]]) {
        const f = this.track.keys[from][0], v = this.value(from, part), slope = this.parts(ease[end])[part];
        const place = { x2: this.x(f + sign * third), y2: this.y(v + sign * third * slope) };
        this.make("line", { x1: this.x(f), y1: this.y(v), ...place, class: "arm" });
        this.make("rect", { x: place.x2 - 4, y: place.y2 - 4, width: 8, height: 8, class: "handle", "data-key": k, "data-part": part, "data-end": end });
      }
    });
  }

  // ---- the numbers of what is chosen
  fill() {
    const one = this.chosen.size === 1 ? [...this.chosen][0] : null, keys = this.track.keys;
    const set = (name, text) => { this.section.querySelector(name).textContent = text; };
    set(".what", `${this.track.whose ? `${this.track.whose} · ` : ""}${this.track.title}`);
    const many = this.chosen.size > 1 ? `${this.chosen.size} keys chosen` : "";
    set(".count", this.fresh ? "nothing is keyed yet: double-click, or type" : many || `${keys.length} key${keys.length > 1 ? "s" : ""}`);
    const numbers = this.section.querySelector(".numbers");
    const wanted = one === null ? "" : `${this.track.path} ${this.track.parts.length}`;
    if (numbers.dataset.made !== wanted) {
      numbers.dataset.made = wanted;
      const field = (name, what) => {
        const label = document.createElement("label"), input = document.createElement("input");
        Object.assign(input, { className: "small", inputMode: "decimal", autocomplete: "off" });
        input.dataset.set = what;
        label.append(`${name} `, input);
        return label;
      };
      const unit = document.createElement("span");
      unit.textContent = this.track.unit;
      numbers.replaceChildren(...(one === null ? [] : [field("frame", "frame"), ...this.track.parts.map((name, part) => field(name || "value", part)), unit]));
    }
    if (one !== null) for (const input of numbers.querySelectorAll("input")) {
      if (input === document.activeElement && !this.held) continue;
      const v = input.dataset.set === "frame" ? keys[one][0] : this.value(one, Number(input.dataset.set));
      input.value = Number(v.toPrecision(7));
    }
    const select = this.section.querySelector("[data-set=ease]");
    select.disabled = !this.chosen.size;
    if (this.chosen.size) { const ease = this.ease([...this.chosen][0]); select.value = typeof ease === "string" ? ease : OWN; }
    select.querySelector(`[value=${OWN}]`).hidden = this.track.parts.length === 4;
    this.section.querySelector("[data-curve=remove]").disabled = !this.chosen.size || this.fresh;
    this.section.querySelector("[data-curve=clear]").disabled = this.fresh;
  }

  typed(input) {
    const what = input.dataset.set, keys = this.track.keys, number = Number(input.value.replace(",", ".").replace("\u2212", "-"));
    if (what === "ease") {
      for (const k of this.chosen) this.setEase(k, input.value);
    } else if (what === "stretch") {
      if (!(number > 0)) { input.value = "1"; return; }
      const some = this.chosen.size > 1 ? [...this.chosen].sort((a, b) => a - b) : keys.map((_, k) => k), from = keys[some[0]][0];
      for (const k of some) keys[k][0] = Math.round((from + (keys[k][0] - from) * number) * 1000) / 1000;
      input.value = "1";
    } else {
      const [k] = this.chosen;
      if (!Number.isFinite(number)) { this.draw(); return; }
      if (what === "frame") keys[k][0] = number;
      else if (Array.isArray(keys[k][1])) keys[k][1][Number(what)] = number;
      else keys[k][1] = number;
    }
    this.keep();
  }

  setEase(k, ease) {
    const keys = this.track.keys, key = keys[k];
    if (ease !== OWN) { key[2] = ease; return; }
    if (k + 1 >= keys.length) return;
    const span = keys[k + 1][0] - key[0], flat = this.parts(key[1]).map((v, p) => (this.value(k + 1, p) - v) / span);
    const slope = Array.isArray(key[1]) ? flat : flat[0];
    key[2] = { leave: structuredClone(slope), arrive: structuredClone(slope) };
  }

  // ---- gestures
  where(event) { const box = this.svg.getBoundingClientRect(); return [event.clientX - box.left, event.clientY - box.top]; }

  press(event) {
    if (event.button !== 0 || !this.track) return;
    this.svg.focus({ preventScroll: true });
    const [x0, y0] = this.where(event), { key, part, end } = event.target.dataset, keys = this.track.keys;
    const before = structuredClone(keys), k = Number(key), p = Number(part);
    if (key !== undefined && end === undefined) {
      if (event.shiftKey) this.chosen.has(k) ? this.chosen.delete(k) : this.chosen.add(k);
      else if (!this.chosen.has(k)) this.chosen = new Set([k]);
    }
    this.svg.setPointerCapture(event.pointerId);
    let moved = false;
    const move = (now) => {
      const [x, y] = this.where(now);
      if (!moved && Math.hypot(x - x0, y - y0) < 3) return;
      moved = this.held = true;  // while it is held, the scale stays
      if (key === undefined) this.box = { x: Math.min(x, x0), y: Math.min(y, y0), width: Math.abs(x - x0), height: Math.abs(y - y0) };
      else if (end) this.turnHandle(k, p, end, y);
      else this.shift(before, p, (x - x0) / this.step, this.valueAt(y) - this.valueAt(y0), now.altKey);
      this.draw();
    };
    const up = () => {
      this.svg.removeEventListener("pointermove", move);
      this.held = false;
      if (key === undefined) this.lasso(moved, x0, event.shiftKey);
      this.box = null;
      if (key !== undefined && moved) this.keep(); else this.draw();
    };
    this.svg.addEventListener("pointermove", move);
    this.svg.addEventListener("pointerup", up, { once: true });
    this.draw();
  }

  lasso(moved, x0, more) {
    if (!moved) { this.chosen = new Set(); this.go(Math.round(this.frameAt(x0))); return; }
    if (!more) this.chosen = new Set();
    const b = this.box;
    this.track.keys.forEach((key, k) => this.track.parts.forEach((_, part) => {
      const x = this.x(key[0]), y = this.y(this.value(k, part));
      if (x >= b.x && x <= b.x + b.width && y >= b.y && y <= b.y + b.height) this.chosen.add(k);
    }));
  }

  // Moves what is chosen by frames (whole ones, unless Alt is down) and by a value; keys do not pass each other.
  shift(before, part, frames, value, fine) {
    const keys = this.track.keys;
    let way = fine ? frames : Math.round(frames);
    for (const k of this.chosen) {
      const least = this.chosen.has(k - 1) || k === 0 ? -Infinity : before[k - 1][0] + (fine ? 0.01 : 1) - before[k][0];
      const most = this.chosen.has(k + 1) || k === keys.length - 1 ? Infinity : before[k + 1][0] - (fine ? 0.01 : 1) - before[k][0];
      way = Math.max(Math.min(way, most), least);
    }
    for (const k of this.chosen) {
      keys[k][0] = Math.round((before[k][0] + way) * 1000) / 1000;
      const v = Number((this.parts(before[k][1])[part] + value).toPrecision(5));
      if (Array.isArray(keys[k][1])) keys[k][1][part] = v; else keys[k][1] = v;
    }
  }

  turnHandle(k, part, end, y) {
    const keys = this.track.keys, third = (keys[k + 1][0] - keys[k][0]) / 3, ease = keys[k][2];
    const slope = end === "leave" ? (this.valueAt(y) - this.value(k, part)) / third : (this.value(k + 1, part) - this.valueAt(y)) / third;
    const v = Number(slope.toPrecision(5));
    if (Array.isArray(ease[end])) ease[end][part] = v; else ease[end] = v;
  }

  addAt(event) {
    if (!this.track || event.target.dataset.key !== undefined) return;
    const [x, y] = this.where(event);
    this.insert(Math.round(this.frameAt(x)), this.track.parts.length === 1 ? this.valueAt(y) : null);
  }

  add() { this.insert(this.now(), null); }

  insert(frame, value) {
    const keys = this.track.keys, round = (v) => Number(v.toPrecision(5));
    if (!this.fresh && keys.some((key) => key[0] === frame)) return;
    const read = this.track.parts.map((_, part) => round(value ?? this.at(frame, part)));
    const key = [frame, Array.isArray(this.track.usual) ? read : read[0]];
    if (this.fresh && keys[0][0] === frame) keys[0] = key;
    else { keys.push(key); keys.sort((a, b) => a[0] - b[0]); }
    this.chosen = new Set([keys.indexOf(key)]);
    this.keep();
  }

  remove() {
    this.track.keys = this.track.keys.filter((_, k) => !this.chosen.has(k));
    this.chosen = new Set();
    this.keep();
  }

  clear() { this.track.keys = []; this.chosen = new Set(); this.keep(); }

  keep() {
    this.track.keys.sort((a, b) => a[0] - b[0]);
    this.save(this.track);
  }

  key(event) {
    const nudge = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 0.02], ArrowDown: [0, -0.02] }[event.key];
    if (event.key === "Delete" || event.key === "Backspace") { if (this.chosen.size && !this.fresh) this.remove(); }
    else if (event.key === "Escape") this.close();
    else if (event.key.toLowerCase() === "k") this.add();
    else if (nudge && this.chosen.size) {
      const before = structuredClone(this.track.keys);
      this.shift(before, 0, nudge[0], nudge[1] * (this.high - this.low), false);
      if (this.track.parts.length > 1 && nudge[1]) for (const k of this.chosen) this.track.keys[k][1] = [...before[k][1]];
      this.keep();
    } else return;
    event.preventDefault();
    event.stopPropagation();
  }
}
