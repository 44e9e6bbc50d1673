// Drawing a level region in the viewport: a rectangle over the ground, or over what is pointed at first.
import * as THREE from "/static/vendor/three/three.module.js";
import { css } from "./stage.js";

export class Region {
  // view: the viewport. drawn: is given the region in metres when it is done.
  constructor(view, drawn) {
    Object.assign(this, { view, drawn, on: false });
    view.canvas.addEventListener("pointerdown", (event) => this.press(event), { capture: true });
  }

  begin() { this.on = true; this.view.canvas.style.cursor = "crosshair"; }

  end() {
    this.on = false;
    this.view.canvas.style.cursor = "";
    this.show(null);
  }

  press(event) {
    if (!this.on || event.button !== 0 || event.altKey) return;
    event.stopImmediatePropagation();
    const { view } = this, from = view.sight(event), height = view.hit(from)?.point.y ?? view.groundHeight ?? 0;
    const level = new THREE.Plane(new THREE.Vector3(0, 1, 0), -height);
    const at = (ray) => ray.ray.intersectPlane(level, new THREE.Vector3());
    const begin = at(from);
    if (!begin) return;
    view.canvas.setPointerCapture(event.pointerId);
    let region = null;
    const move = (now) => {
      const to = at(view.sight(now));
      if (!to) return;
      region = { x0: Math.min(begin.x, to.x), x1: Math.max(begin.x, to.x), z0: Math.min(begin.z, to.z), z1: Math.max(begin.z, to.z) };
      this.show(region, height);
    };
    const up = (now) => {
      now.stopImmediatePropagation();
      view.canvas.removeEventListener("pointermove", move);
      if (region && region.x1 - region.x0 > 1e-3 && region.z1 - region.z0 > 1e-3) this.drawn(region);
    };
    view.canvas.addEventListener("pointermove", move);
    view.canvas.addEventListener("pointerup", up, { once: true, capture: true });
  }

  // Draws a region's edge, seen through everything; null takes it away.
  show(region, height = 0) {
    if (this.edge) { this.edge.removeFromParent(); this.edge.geometry.dispose(); this.edge = null; }
    if (region) {
      const { x0, x1, z0, z1 } = region, corners = [[x0, z0], [x1, z0], [x1, z1], [x0, z1]];
      const line = new THREE.BufferGeometry().setFromPoints(corners.map(([x, z]) => new THREE.Vector3(x, height, z)));
      this.edge = new THREE.LineLoop(line, new THREE.LineBasicMaterial({ color: css("--lamp"), depthTest: false, transparent: true }));
      this.edge.renderOrder = 8;
      this.view.scene.add(this.edge);
    }
    this.view.draw();
  }
}
