// Draws bodies that share a mesh in one go: what a card or a processor is asked per body is a matrix.
import * as THREE from "/static/vendor/three/three.module.js";

const FEWEST = 6;  // bodies that are worth it

// Fills a matrix with three columns of a turn and a shift, twelve numbers.
export function setColumns(matrix, m, at) {
  return matrix.set(
    m[at], m[at + 3], m[at + 6], m[at + 9], m[at + 1], m[at + 4], m[at + 7], m[at + 10], m[at + 2], m[at + 5], m[at + 8], m[at + 11], 0, 0, 0, 1);
}

// Fills a matrix with a pose: shift in metres and quaternion x y z w.
export function setPose(matrix, [x, y, z, i, j, k, w]) {
  return matrix.compose(new THREE.Vector3(x, y, z), new THREE.Quaternion(i, j, k, w), new THREE.Vector3(1, 1, 1));
}

export class Copies {
  constructor(stage) {
    Object.assign(this, { stage, batches: [], coarse: false });
    stage.scene.onBeforeRender = () => this.place();
  }

  // Whether there are coarser meshes to draw while something moves.
  get coarser() { return this.batches.some((batch) => batch.shape.coarse); }

  // Takes the stage's bodies anew.
  gather() {
    for (const { drawn, plain } of this.batches) { drawn.removeFromParent(); drawn.dispose(); plain.dispose(); }
    const alike = new Map();
    for (const body of this.stage.bodies.values()) {
      if (!body.shape) continue;
      const key = `${body.shape.name} ${body.entry.role}`;
      if (!alike.has(key)) alike.set(key, []);
      alike.get(key).push(body);
    }
    this.batches = [...alike.values()].filter((bodies) => bodies.length >= FEWEST).map((bodies) => {
      const { shape, entry } = bodies[0], drawn = new THREE.InstancedMesh(shape.drawn, this.stage.shared(entry.role), bodies.length);
      drawn.frustumCulled = false;
      drawn.raycast = () => {};  // what is pointed at are the bodies themselves
      this.stage.scene.add(drawn);
      return { shape, role: entry.role, bodies, drawn };
    });
    this.restyle();
  }

  restyle() {
    for (const batch of this.batches) {
      batch.material = this.stage.shared(batch.role);
      batch.plain?.dispose();  // lit the cheap way; what is rigid is closed, and nobody sees its faces from behind
      batch.plain = new THREE.MeshLambertMaterial({ color: batch.material.color, side: batch.role === "rigid" ? THREE.FrontSide : THREE.DoubleSide });
    }
  }

  // Before each picture: puts every copy where its body is; a body that looks unlike them is drawn by itself.
  place() {
    for (const { shape, bodies, drawn, material, plain } of this.batches) {
      let count = 0;
      for (const body of bodies) {
        const { mesh } = body, alike = mesh.geometry === shape.drawn && mesh.material === material;
        mesh.visible = body.wanted && !alike;
        if (alike && body.wanted && body.group.visible) drawn.setMatrixAt(count++, mesh.matrixWorld);
      }
      drawn.count = count;
      drawn.instanceMatrix.needsUpdate = true;
      const coarse = this.coarse && shape.coarse;
      drawn.geometry = coarse || shape.drawn;
      drawn.material = coarse ? plain : material;
    }
  }
}
