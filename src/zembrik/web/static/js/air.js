// Arrows of the moving air: each as long as the air there goes in a tenth of a second.
import * as THREE from "/static/vendor/three/three.module.js";
import { fetchPack } from "./pack.js";
import { css } from "./stage.js";

const SECONDS = 0.1;

export class Air {
  constructor(view) { this.view = view; }

  async show(shot, frame) {
    const pack = await fetchPack(`/shots/${shot}/air.bin`);
    this.hide();
    Object.assign(this, { places: pack.floats(pack.head.places), velocity: pack.floats(pack.head.velocity), frames: pack.head.frames });
    const count = this.places.length / 3, colour = css("--rain");
    const lines = new THREE.BufferGeometry();
    lines.setAttribute("position", new THREE.BufferAttribute(new Float32Array(6 * count), 3));
    this.shafts = new THREE.LineSegments(lines, new THREE.LineBasicMaterial({ color: colour, transparent: true, opacity: 0.8 }));
    this.shafts.frustumCulled = false;
    this.tips = new THREE.InstancedMesh(new THREE.ConeGeometry(1, 3, 8), new THREE.MeshBasicMaterial({ color: colour }), count);
    this.tips.frustumCulled = false;
    this.view.scene.add(this.shafts, this.tips);
    this.moveTo(frame);
  }

  hide() {
    for (const one of [this.shafts, this.tips]) if (one) { one.removeFromParent(); one.geometry.dispose(); }
    this.shafts = this.tips = null;
    this.view.draw();
  }

  moveTo(frame) {
    if (!this.tips) return;
    const count = this.places.length / 3, k = Math.max(0, this.frames.findLastIndex((f) => f <= frame));
    const ends = this.shafts.geometry.attributes.position, from = new THREE.Vector3(), way = new THREE.Vector3();
    const up = new THREE.Vector3(0, 1, 0), turn = new THREE.Quaternion(), place = new THREE.Matrix4(), size = new THREE.Vector3();
    for (let n = 0; n < count; n++) {
      from.fromArray(this.places, 3 * n);
      way.fromArray(this.velocity, 3 * (k * count + n)).multiplyScalar(SECONDS);
      ends.setXYZ(2 * n, from.x, from.y, from.z);
      const length = way.length(), tip = Math.min(0.018, 0.12 * length);
      from.add(way);
      ends.setXYZ(2 * n + 1, from.x, from.y, from.z);
      turn.setFromUnitVectors(up, length > 1e-9 ? way.divideScalar(length) : up);
      this.tips.setMatrixAt(n, place.compose(from, turn, size.setScalar(tip)));
    }
    ends.needsUpdate = true;
    this.tips.instanceMatrix.needsUpdate = true;
    this.view.draw();
  }
}
