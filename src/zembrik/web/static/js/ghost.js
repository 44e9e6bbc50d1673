// Another frame, or another bake, laid over a stage as lines.
import * as THREE from "/static/vendor/three/three.module.js";
import { setPose } from "./copies.js";

export class Ghost extends THREE.Group {
  constructor(colour) {
    super();
    this.ink = new THREE.LineBasicMaterial({ color: colour, transparent: true, opacity: 0.35 });
    this.drawn = new Map();
  }

  // Draws bodies where a frame has them: see `Frames.at`.
  put(bodies) {
    for (const [name, values, baked] of bodies) {
      if (baked.render) continue;
      if (!this.drawn.has(name)) this.drawn.set(name, this.lines(baked));
      const lines = this.drawn.get(name);
      if (baked.shape) {
        setPose(lines.matrix, values).multiply(baked.place);
        lines.matrixWorldNeedsUpdate = true;
      } else {
        lines.geometry.attributes.position.array.set(values);
        lines.geometry.attributes.position.needsUpdate = true;
      }
    }
  }

  lines({ shape, faces, size }) {
    const geometry = new THREE.BufferGeometry(), ends = [], corners = faces ?? shape.faces.array;
    for (let f = 0; f < corners.length; f += 3) for (let k = 0; k < 3; k++) { const p = corners[f + k], q = corners[f + (k + 1) % 3]; if (p < q) ends.push(p, q); }
    geometry.setAttribute("position", new THREE.BufferAttribute(shape ? new Float32Array(shape.points) : new Float32Array(size), 3));
    geometry.setIndex(ends);
    const lines = new THREE.LineSegments(geometry, this.ink);
    lines.frustumCulled = false;
    lines.matrixAutoUpdate = false;
    this.add(lines);
    return lines;
  }

  end() {
    this.removeFromParent();
    for (const lines of this.drawn.values()) lines.geometry.dispose();
    this.ink.dispose();
  }
}
