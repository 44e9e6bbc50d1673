// The frame line: one column a frame, its height the plotted figure, its texture the state.
const css = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();

export class Ribbon {
  constructor(canvas, onScrub) {
    this.canvas = canvas;
    this.onScrub = onScrub;
    this.first = 1; this.last = 96; this.values = []; this.done = 0; this.frame = 1;
    this.stale = false; this.active = false; this.failed = false; this.begin = 1;
    new ResizeObserver(() => this.draw()).observe(canvas);
    const scrub = (event) => this.onScrub(this.frameAt(event.clientX));
    canvas.addEventListener("pointerdown", (event) => {
      canvas.setPointerCapture(event.pointerId);
      scrub(event);
      canvas.addEventListener("pointermove", scrub);
    });
    canvas.addEventListener("pointerup", () => canvas.removeEventListener("pointermove", scrub));
    canvas.addEventListener("pointercancel", () => canvas.removeEventListener("pointermove", scrub));
  }

  set(state) { Object.assign(this, state); this.draw(); }

  // However often something is told, it is drawn once for each picture that the screen shows.
  draw() { this.due ??= requestAnimationFrame(() => { this.due = undefined; this.paint(); }); }

  frameAt(x) {
    const box = this.canvas.getBoundingClientRect();
    const share = (x - box.left) / box.width;
    return Math.max(this.first, Math.min(this.last, this.first + Math.floor(share * (this.last - this.first + 1))));
  }

  hatch(context, ratio) {
    const tile = document.createElement("canvas");
    tile.width = tile.height = 5 * ratio;
    const pen = tile.getContext("2d");
    pen.strokeStyle = css("--plum");
    pen.lineWidth = 1.8 * ratio;
    pen.beginPath();
    for (const d of [-5, 0, 5]) { pen.moveTo((d - 1) * ratio, 6 * ratio); pen.lineTo((d + 6) * ratio, -1 * ratio); }
    pen.stroke();
    return context.createPattern(tile, "repeat");
  }

  // What eases in and out over the shot: a line for each, from nothing at its foot to its most, with its name.
  drawSchedule(pen, ratio, step, floor) {
    const all = this.schedule || [], tall = Math.min(26 * ratio, floor / Math.max(all.length, 1));
    all.forEach((one, n) => {
      const most = Math.max(...one.values.map(Math.abs), 1e-9), foot = (n + 1) * tall;
      pen.strokeStyle = css("--text");
      pen.globalAlpha = 0.85;
      pen.lineWidth = 1.4 * ratio;
      pen.setLineDash(n ? [5 * ratio, 3 * ratio] : []);
      pen.beginPath();
      one.values.forEach((v, k) => pen.lineTo((k + this.scheduled - this.first + 0.5) * step, foot - (Math.abs(v) / most) * (tall - 4 * ratio)));
      pen.stroke();
      pen.setLineDash([]);
      const k = one.values.findIndex((v) => Math.abs(v) > 0.6 * most);
      const x = Math.min((k + 1.5) * step, this.canvas.width - 90 * ratio);
      pen.font = `${11 * ratio}px "Atkinson Next", sans-serif`;
      pen.textBaseline = "top";
      pen.textAlign = "left";
      const wide = pen.measureText(one.label).width;
      pen.fillStyle = css("--night");
      pen.globalAlpha = 0.75;
      pen.fillRect(x - 3 * ratio, foot - tall + 2 * ratio, wide + 6 * ratio, 14 * ratio);
      pen.globalAlpha = 1;
      pen.fillStyle = css("--text");
      pen.fillText(one.label, x, foot - tall + 3 * ratio);
    });
  }

  paint() {
    const ratio = Math.min(devicePixelRatio, 2);
    const { clientWidth: w, clientHeight: h } = this.canvas;
    if (!w || !h) return;
    this.canvas.width = w * ratio; this.canvas.height = h * ratio;
    const pen = this.canvas.getContext("2d");
    const count = this.last - this.first + 1, step = (w * ratio) / count;
    const gap = step > 5 * ratio ? Math.min(2 * ratio, step * 0.2) : 0;
    const floor = (h - 13) * ratio, top = Math.max(...this.values.filter(Number.isFinite), 1e-9);
    const peak = this.values.indexOf(top);
    const good = this.stale ? this.hatch(pen, ratio) : css("--pear");
    const dash = Math.max(ratio, Math.min(3 * ratio, step / 3));
    const together = Math.max(1, Math.ceil(1 / step));  // frames that share a column of pixels, which shows their peak
    for (let k = 0; k < count; k += together) {
      const x = k * step + gap / 2, width = Math.max(step * together - gap, 0.6);
      const n = k + this.first - this.begin;
      if (n >= 0 && n < this.done) {
        const own = this.values.slice(n, n + together).filter(Number.isFinite);
        const share = Math.max(0, ...own) / top;  // a cache from elsewhere has no figures
        const height = Math.max(3 * ratio, share * (floor - 4 * ratio));
        pen.fillStyle = n === peak && !this.stale && step > 3 ? css("--lamp") : good;
        pen.fillRect(x, floor - height, width, height);
      } else if (this.active && n >= this.done && n < this.done + 2) {
        pen.strokeStyle = css("--lamp");
        pen.setLineDash([dash, dash]);
        pen.lineWidth = ratio;
        pen.strokeRect(x + ratio / 2, floor * 0.35, Math.max(width - ratio, 1), floor * 0.65 - ratio);
        pen.setLineDash([]);
      } else {
        pen.fillStyle = css("--line");
        pen.fillRect(x, floor - 3 * ratio, width, 3 * ratio);
      }
    }
    this.drawSchedule(pen, ratio, step, floor);
    pen.fillStyle = css("--faint");
    pen.font = `${11 * ratio}px "Atkinson Mono", monospace`;
    pen.textBaseline = "bottom";
    const every = [1, 2, 5, 10, 12, 24, 48, 100, 200, 500, 1000, 5000, 20000].find((n) => n * step > 44 * ratio) || count;
    for (let f = this.first; f <= this.last; f++) {
      if (f !== this.first && f % every) continue;
      if (f === this.first && f % every && every - (f % every) < every / 2) continue;
      pen.textAlign = f === this.first ? "left" : "center";
      pen.fillText(String(f), f === this.first ? 0 : (f - this.first + 0.5) * step, h * ratio);
    }
    for (const f of this.marks || []) {  // marked frames: a pennant above their column
      if (f < this.first || f > this.last) continue;
      const x = (f - this.first + 0.5) * step;
      pen.fillStyle = css("--lamp");
      pen.fillRect(x - ratio / 2, 0, ratio, floor);
      pen.beginPath();
      pen.moveTo(x, 0); pen.lineTo(x + 8 * ratio, 4 * ratio); pen.lineTo(x, 8 * ratio);
      pen.fill();
    }
    for (const { frame, back } of this.handovers || []) {  // a disc whose filled half is where physics moves a body
      if (frame < this.first || frame > this.last) continue;
      const x = (frame - this.first + 0.5) * step, y = 12 * ratio, r = 5 * ratio;
      pen.lineWidth = 1.4 * ratio;
      pen.strokeStyle = pen.fillStyle = css("--text");
      pen.beginPath();
      pen.moveTo(x, y + r); pen.lineTo(x, floor);
      pen.globalAlpha = 0.5;
      pen.stroke();
      pen.globalAlpha = 1;
      pen.beginPath();
      pen.arc(x, y, r, 0, 2 * Math.PI);
      pen.stroke();
      pen.beginPath();
      pen.arc(x, y, r, -Math.PI / 2, Math.PI / 2, back);
      pen.fill();
    }
    if (this.wrong !== null && this.wrong !== undefined && this.done > 0) {  // from here on the frames are not to be trusted
      const from = (this.wrong - this.first) * step, to = (this.begin + this.done - this.first) * step;
      pen.strokeStyle = css("--brick");
      pen.lineWidth = 2 * ratio;
      pen.beginPath();
      pen.moveTo(from, floor + ratio); pen.lineTo(to, floor + ratio);
      const x = from + Math.min(step / 2, 6 * ratio), y = 9 * ratio, r = 4 * ratio;
      pen.moveTo(x - r, y - r); pen.lineTo(x + r, y + r);
      pen.moveTo(x + r, y - r); pen.lineTo(x - r, y + r);
      pen.stroke();
    }
    if (this.loop) {
      const [from, to] = this.loop.map((f) => (f - this.first) * step), wide = 3 * ratio;
      pen.fillStyle = css("--rain");
      pen.fillRect(from, floor + 1.5 * ratio, to + step - from, 2 * ratio);
      for (const edge of [from, to + step - wide]) pen.fillRect(edge, floor - 8 * ratio, wide, 10 * ratio);
    }
    const x = (this.frame - this.first + 0.5) * step;
    pen.fillStyle = css("--text");
    pen.fillRect(x - ratio, 0, 2 * ratio, floor + 2 * ratio);
    pen.beginPath();
    pen.moveTo(x - 5 * ratio, 0); pen.lineTo(x + 5 * ratio, 0); pen.lineTo(x, 6 * ratio);
    pen.fill();
  }
}
