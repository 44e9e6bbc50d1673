// Fetches frames of a bake in runs, ahead of where they are looked at, and keeps them.
import { Matrix4 } from "/static/vendor/three/three.module.js";
import { fetchPack } from "./pack.js";
import { setColumns } from "./copies.js";

const RUN = 12, MOST_BYTES = 600e6;

export class Frames {
  // With `carried`, the points of the render meshes that bodies carry come too.
  constructor(bakeId, onArrive, carried = false) {
    this.id = bakeId;
    this.carried = carried;
    this.onArrive = onArrive;
    this.kept = new Map();
    this.asked = new Set();
  }

  // With `shapes`, what makes meshes of a pack's shapes: see `Stage.shapes`.
  async open(shapes) {
    const pack = await fetchPack(`/bakes/${this.id}/mesh.bin?carried=${this.carried}`), made = shapes(pack);
    this.bodies = pack.head.bodies.map((b) => b.shape === undefined
      ? { name: b.name, size: 3 * b.count, faces: pack.whole(b.faces), render: b.render }
      : { name: b.name, size: 7, shape: made[b.shape], place: setColumns(new Matrix4(), pack.floats(b.place), 0) });
    this.size = this.bodies.reduce((sum, b) => sum + b.size, 0);
    return this;
  }

  has(frame) { return this.kept.has(frame); }

  // Points or pose of every body at a frame, as views into what came, each with what `open` told of it.
  at(frame) {
    const all = this.kept.get(frame);
    if (!all) return null;
    let from = 0;
    return this.bodies.map((b) => {
      const values = all.subarray(from, from + b.size);
      from += b.size;
      return [b.name, values, b];
    });
  }

  want(frame, done) {
    for (let f = frame; f <= Math.min(frame + 2 * RUN, done); f++)
      if (!this.kept.has(f) && !this.asked.has(f)) { this.fetch(f, Math.min(RUN, done - f + 1)); return; }
  }

  async fetch(first, count) {
    for (let f = first; f < first + count; f++) this.asked.add(f);
    try {
      const answer = await fetch(`/bakes/${this.id}/frames.bin?first=${first}&count=${count}&carried=${this.carried}`);
      if (!answer.ok) return;
      const came = Number(answer.headers.get("X-Frames"));
      const values = new Float32Array(await answer.arrayBuffer());
      for (let k = 0; k < came; k++) this.kept.set(first + k, values.slice(k * this.size, (k + 1) * this.size));
      const most = Math.max(3 * RUN, Math.floor(MOST_BYTES / (4 * this.size || 1)));
      for (const key of this.kept.keys()) {
        if (this.kept.size <= most) break;
        if (key < first || key >= first + count) this.kept.delete(key);
      }
    } finally {
      for (let f = first; f < first + count; f++) this.asked.delete(f);
    }
    this.onArrive();
  }
}
