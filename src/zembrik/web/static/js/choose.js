// Choosing points of a body in the viewport: a click takes the nearest, a drag all in a box; again takes them out.
import * as THREE from "/static/vendor/three/three.module.js";
import { css } from "./stage.js";

const NEAR_PX = 14;

export class Chooser {
  // view: the viewport. changed: is given the numbers that are chosen.
  constructor(view, box, changed) {
    Object.assign(this, { view, box, changed });
    this.numbers = new Set();
    view.canvas.addEventListener("pointerdown", (event) => this.press(event), { capture: true });
  }

  begin(name) {
    this.name = name;
    this.numbers = new Set();
    this.view.choosing = name;
    this.view.canvas.style.cursor = "crosshair";
    this.show();
  }

  end() {
    this.name = this.view.choosing = null;
    this.view.canvas.style.cursor = "";
    this.numbers = new Set();
    this.show();
  }

  // Every point of the body as it is drawn now, on the screen: x, y, and whether it is before the camera.
  places() {
    const body = this.view.bodies.get(this.name), { clientWidth: w, clientHeight: h } = this.view.canvas;
    const points = body.mesh.geometry.attributes.position, at = new THREE.Vector3(), found = [];
    body.mesh.updateWorldMatrix(true, false);
    for (let n = 0; n < points.count; n++) {
      at.fromBufferAttribute(points, n).applyMatrix4(body.mesh.matrixWorld).project(this.view.camera);
      if (at.z < 1) found.push([n, ((at.x + 1) / 2) * w, ((1 - at.y) / 2) * h]);
    }
    return found;
  }

  press(event) {
    if (!this.name || event.button !== 0 || event.altKey) return;  // with Alt the view is turned as ever
    event.stopImmediatePropagation();
    const canvas = this.view.canvas, home = canvas.getBoundingClientRect();
    const where = (e) => [e.clientX - home.left, e.clientY - home.top], [x0, y0] = where(event);
    canvas.setPointerCapture(event.pointerId);
    const move = (now) => {
      const [x, y] = where(now);
      Object.assign(this.box.style, { left: `${Math.min(x, x0)}px`, top: `${Math.min(y, y0)}px`, width: `${Math.abs(x - x0)}px`, height: `${Math.abs(y - y0)}px` });
      this.box.hidden = Math.hypot(x - x0, y - y0) < 5;
    };
    const up = (now) => {
      now.stopImmediatePropagation();
      canvas.removeEventListener("pointermove", move);
      const [x, y] = where(now), wide = Math.hypot(x - x0, y - y0) >= 5, places = this.places();
      this.box.hidden = true;
      let taken = [];
      if (wide) taken = places.filter(([, px, py]) => px >= Math.min(x, x0) && px <= Math.max(x, x0) && py >= Math.min(y, y0) && py <= Math.max(y, y0));
      else {
        const off = ([, px, py]) => Math.hypot(px - x, py - y), nearest = places.reduce((a, b) => (off(a) < off(b) ? a : b), places[0]);
        if (nearest && off(nearest) < NEAR_PX) taken = [nearest];
      }
      const numbers = taken.map(([n]) => n), all = numbers.length && numbers.every((n) => this.numbers.has(n));
      for (const n of numbers) all ? this.numbers.delete(n) : this.numbers.add(n);
      this.show();
    };
    canvas.addEventListener("pointermove", move);
    canvas.addEventListener("pointerup", up, { once: true, capture: true });
  }

  show() {
    if (this.dots) { this.dots.removeFromParent(); this.dots.geometry.dispose(); this.dots = null; }
    const body = this.view.bodies.get(this.name);
    if (body && this.numbers.size) {
      const points = new THREE.BufferGeometry();
      const now = body.mesh.geometry.attributes.position.array;
      points.setAttribute("position", new THREE.BufferAttribute(this.view.pick(now, [...this.numbers]), 3));
      const material = new THREE.PointsMaterial({ color: css("--text"), size: 8, sizeAttenuation: false, depthTest: false, transparent: true });
      this.dots = new THREE.Points(points, material);
      this.dots.renderOrder = 7;
      body.group.add(this.dots);
    }
    this.changed([...this.numbers].sort((a, b) => a - b));
    this.view.draw();
  }
}
