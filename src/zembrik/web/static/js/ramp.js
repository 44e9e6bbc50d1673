// Figures of every point as colours of one scale, from dark (none) over lamp to bright (the most there is).
import * as THREE from "/static/vendor/three/three.module.js";
import { fetchPack } from "./pack.js";

const STOPS = ["#352c4f", "#8272c4", "#f2bf74", "#fff6dc"].map((c) => new THREE.Color(c));

function tint(share, into) {
  const at = Math.max(0, Math.min(1, share)) * (STOPS.length - 1), k = Math.min(STOPS.length - 2, Math.floor(at));
  return into.copy(STOPS[k]).lerp(STOPS[k + 1], at - k);
}

export class Tinted {
  // stage: whose bodies. bake: whose figures. what: which; other: the bake that "apart" is measured against.
  constructor(stage, bake, what, other = 0) {
    Object.assign(this, { stage, bake, what, other, asked: null, head: null });
  }

  again() { this.shown = null; this.show(this.wanted); }

  // Asks for a frame's figures, one question at a time; the newest frame that was asked for comes last.
  async show(frame) {
    this.wanted = frame;
    if (this.busy || this.shown === frame) return;
    this.busy = true;
    try {
      while (this.shown !== this.wanted && !this.over) {
        const at = this.wanted;
        const pack = await fetchPack(`/bakes/${this.bake}/colours.bin?what=${encodeURIComponent(this.what)}&frame=${at}&other=${this.other}`);
        if (this.over) return;
        this.shown = at;
        this.head = pack.head;
        const top = (this.scale ? this.scale(pack.head.top) : pack.head.top) || 1e-12;
        for (const one of pack.head.bodies) this.paint(one.name, pack.floats(one.values), top);
        this.stage.draw();
        this.came?.(pack.head);
      }
    } catch { this.shown = this.wanted; } finally { this.busy = false; }
  }

  paint(name, values, top) {
    const body = this.stage.bodies.get(name);
    if (!body) return;
    const { mesh } = body, c = new THREE.Color(), count = mesh.geometry.attributes.position.count;
    body.plain ??= mesh.material;
    if (mesh.material === body.plain) mesh.material = new THREE.MeshStandardMaterial({ roughness: 0.9, side: THREE.DoubleSide, polygonOffset: true, polygonOffsetFactor: 1, polygonOffsetUnits: 1 });
    if (count !== values.length) {  // a rigid body with hard edges: the most of all its points
      mesh.material.vertexColors = false;
      tint(values.reduce((a, b) => Math.max(a, b), 0) / top, mesh.material.color);
      return;
    }
    if (body.shape && mesh.geometry === body.shape.drawn) mesh.geometry = mesh.geometry.clone();  // its copies keep theirs
    let colours = mesh.geometry.getAttribute("color");
    if (!colours || colours.count !== count) { colours = new THREE.BufferAttribute(new Float32Array(3 * count), 3); mesh.geometry.setAttribute("color", colours); }
    values.forEach((v, k) => { tint(v / top, c).toArray(colours.array, 3 * k); });
    colours.needsUpdate = true;
    if (!mesh.material.vertexColors) { mesh.material.vertexColors = true; mesh.material.needsUpdate = true; }
  }

  end() {
    this.over = true;
    for (const body of this.stage.bodies.values()) {
      if (!body.plain) continue;
      body.mesh.material.dispose();
      body.mesh.material = body.plain;
      body.plain = null;
      if (body.shape && !body.alone) body.mesh.geometry = body.shape.drawn;
    }
    this.stage.refresh();
  }
}
