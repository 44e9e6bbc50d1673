// A shot's bodies, proxies, ground and a person for scale as a scene. It computes nothing a result depends on.
import * as THREE from "/static/vendor/three/three.module.js";

export const css = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
const PERSON_M = 1.75;

export class Stage {
  // With plainLight surfaces are lit the cheap way: where many stages are drawn at once.
  constructor(plainLight = false) {
    this.plainLight = plainLight;
    this.scene = new THREE.Scene();
    this.scene.add(new THREE.HemisphereLight(0xffffff, 0x6b6288, 1.35));
    const key = new THREE.DirectionalLight(0xfff1d8, 2.0);
    key.position.set(-3, 6, 4);
    this.scene.add(key);
    this.bodies = new Map();
    this.shown = { lines: false, proxies: false, human: false, render: false };
    this.marks = [];
    this.selected = "";  // what the panel is about
    this.chosen = new Set();
    this.groups = [];
    this.ground = new THREE.Group();
    this.scene.add(this.ground);
    this.person = this.makePerson();
    this.scene.add(this.person);
  }

  // What shows the stage draws it anew here.
  draw() {}

  material(role) {
    const colour = { cloth: css("--pear"), soft: css("--wheat"), rigid: css("--plum"), collider: css("--rain"), "handed in": css("--wheat") }[role] || css("--faint");
    const left = role === "left out";
    const Kind = this.plainLight ? THREE.MeshLambertMaterial : THREE.MeshStandardMaterial;
    return new Kind({
      color: colour, ...(this.plainLight ? {} : { roughness: 0.86, metalness: 0 }), side: THREE.DoubleSide,
      transparent: left, opacity: left ? 0.35 : 1, polygonOffset: true, polygonOffsetFactor: 1, polygonOffsetUnits: 1,
    });
  }

  geometry(points, faces) {
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(new Float32Array(points), 3));
    geometry.setIndex(new THREE.BufferAttribute(new Uint32Array(faces), 1));
    geometry.computeVertexNormals();
    return geometry;
  }

  // Colliders have hard edges: light them face by face where the angle is wide.
  faceted(geometry) {
    const flat = geometry.toNonIndexed();
    flat.computeVertexNormals();
    return flat;
  }

  setScene(pack) {
    this.coloured = null;
    for (const body of this.bodies.values()) body.group.removeFromParent();
    this.bodies.clear();
    this.order = pack.head.bodies.map((entry) => entry.name);  // as in the setup, those without a mesh too
    for (const entry of pack.head.bodies) {
      if (!entry.points) continue;
      const group = new THREE.Group();
      const smooth = this.geometry(pack.floats(entry.points), pack.whole(entry.faces));
      const few = smooth.index.count < 3 * 600;
      const geometry = entry.role !== "cloth" && entry.role !== "soft" && few && !entry.forms ? this.faceted(smooth) : smooth;
      const mesh = new THREE.Mesh(geometry, this.material(entry.role));
      mesh.name = entry.name;
      group.add(mesh);
      const body = { entry, group, mesh, start: new Float32Array(pack.floats(entry.points)), startFaces: smooth.index };
      if (entry.render) {
        const detailed = this.geometry(pack.floats(entry.render.points), pack.whole(entry.render.faces));
        body.render = new THREE.Mesh(detailed, this.material(entry.role));
        body.render.name = entry.name;
        body.renderStart = new Float32Array(pack.floats(entry.render.points));
        group.add(body.render);
      }
      if (entry.proxy) {
        const shell = this.geometry(pack.floats(entry.proxy.points), pack.whole(entry.proxy.faces));
        body.proxy = new THREE.LineSegments(
          new THREE.WireframeGeometry(shell), new THREE.LineBasicMaterial({ color: css("--lamp"), transparent: true, opacity: 0.75 }));
        group.add(body.proxy);
      }
      if (entry.pins && entry.pins[1]) {
        body.pinned = pack.whole(entry.pins);
        const dots = new THREE.BufferGeometry();
        dots.setAttribute("position", new THREE.BufferAttribute(this.pick(body.start, body.pinned), 3));
        body.pins = new THREE.Points(dots, new THREE.PointsMaterial({ color: css("--lamp"), size: 5, sizeAttenuation: false }));
        group.add(body.pins);
      }
      if (entry.motion) {  // a frame is three columns of the turn and the shift, twelve numbers
        body.motion = pack.floats(entry.motion);
        group.matrixAutoUpdate = false;
      }
      if (entry.forms) body.forms = pack.floats(entry.forms);
      this.bodies.set(entry.name, body);
      this.scene.add(group);
    }
    this.groups = pack.head.groups ?? [];
    for (const group of this.groups)
      for (const name of group.bodies) {
        const body = this.bodies.get(name);
        if (body) Object.assign(body, { hidden: group.hidden, locked: group.locked, of: group.name });
      }
    this.marks = pack.head.marks;
    this.groundHeight = pack.head.ground;
    this.makeGround();
    this.placePerson();
    this.refresh();
  }

  pick(points, numbers) {
    const out = new Float32Array(numbers.length * 3);
    numbers.forEach((n, k) => out.set(points.subarray(3 * n, 3 * n + 3), 3 * k));
    return out;
  }

  // The faces of a baked body; null goes back to the setup's own.
  setFaces(name, faces) {
    const body = this.bodies.get(name);
    if (!body) return;
    body.baked = faces ? new THREE.BufferAttribute(new Uint32Array(faces), 1) : null;
    if (faces && body.entry.role === "left out") {  // of a cache that was handed in: it is what there is to look at
      body.entry.role = "handed in";
      body.mesh.material = this.material(body.entry.role);
    }
  }

  setPoints(name, points) {
    const body = this.bodies.get(name);
    if (!body) return;
    if (body.entry.role === "rigid" && this.pose(body, points)) return;
    const geometry = body.mesh.geometry;
    const faces = body.baked || body.startFaces;
    if (geometry.attributes.position.count * 3 !== points.length || geometry.index !== faces) {
      const fresh = new THREE.BufferGeometry();
      fresh.setAttribute("position", new THREE.BufferAttribute(new Float32Array(points), 3));
      fresh.setIndex(faces);
      fresh.computeVertexNormals();
      geometry.dispose();
      body.mesh.geometry = fresh;
      this.refreshLines(body);
    } else {
      geometry.attributes.position.array.set(points);
      geometry.attributes.position.needsUpdate = true;
      geometry.computeVertexNormals();
    }
    if (body.pins && points.length === body.start.length) {
      body.pins.geometry.attributes.position.array.set(this.pick(points, body.pinned));
      body.pins.geometry.attributes.position.needsUpdate = true;
      body.pins.geometry.computeBoundingSphere();
    }
    body.mesh.geometry.computeBoundingSphere();
    if (body.lines) this.updateLines(body);
  }

  // Whether any body carries a render mesh.
  carries() { return [...this.bodies.values()].some((body) => body.render); }

  // Where the render mesh that a body carries is.
  setRender(name, points) {
    const render = this.bodies.get(name)?.render;
    if (!render || render.geometry.attributes.position.count * 3 !== points.length) return;
    render.geometry.attributes.position.array.set(points);
    render.geometry.attributes.position.needsUpdate = true;
    render.geometry.computeVertexNormals();
    render.geometry.computeBoundingSphere();
  }

  // Moves a rigid body as a whole to where three of its points tell; false when it is another mesh by now.
  pose(body, points) {
    const start = body.start;
    if (points.length !== start.length || start.length < 9) return false;
    const at = (from, n) => new THREE.Vector3(from[3 * n], from[3 * n + 1], from[3 * n + 2]);
    if (!body.corners) {
      const first = at(start, 0), far = (measure) => {
        let best = 0, most = -1;
        for (let n = 0; n < start.length / 3; n++) { const size = measure(at(start, n)); if (size > most) { most = size; best = n; } }
        return best;
      };
      const second = far((p) => p.distanceTo(first)), axis = at(start, second).sub(first).normalize();
      body.corners = [0, second, far((p) => p.sub(first).cross(axis).lengthSq())];
    }
    const frame = (from) => {
      const [o, p, q] = body.corners.map((n) => at(from, n));
      const x = p.clone().sub(o), length = x.length(), z = x.clone().cross(q.sub(o)).normalize();
      x.normalize();
      return [new THREE.Matrix4().makeBasis(x, z.clone().cross(x), z).setPosition(o), length];
    };
    const [here, was] = frame(start), [there, is] = frame(points);
    if (Math.abs(is - was) > 0.002 * was) return false;
    body.group.matrixAutoUpdate = false;
    body.group.matrix.copy(there.multiply(here.invert()));
    body.group.matrixWorldNeedsUpdate = true;
    body.posed = true;
    return true;
  }

  // Puts a rigid body where a pose has it: shift in metres and quaternion x y z w, against its place.
  setPose(name, [x, y, z, i, j, k, w]) {
    const group = this.bodies.get(name)?.group;
    if (!group) return;
    group.matrixAutoUpdate = false;
    group.matrix.compose(new THREE.Vector3(x, y, z), new THREE.Quaternion(i, j, k, w), new THREE.Vector3(1, 1, 1));
    group.matrixWorldNeedsUpdate = true;
    this.bodies.get(name).posed = true;
  }

  // Puts a body that is led as far from its place as its leader has gone.
  setShift(name, way) {
    const body = this.bodies.get(name);
    if (!body || body.entry.role === "rigid") return;
    body.group.matrixAutoUpdate = false;
    body.group.matrix.makeTranslation(way.x, way.y, way.z);
    body.group.matrixWorldNeedsUpdate = true;
    body.posed = true;
  }

  // Puts the bodies that move by themselves where they are, this many frames after the first.
  moveTo(index) {
    for (const [name, body] of this.bodies) {
      if (body.forms) {
        const size = body.start.length, at = size * Math.max(0, Math.min(index, body.forms.length / size - 1));
        this.setPoints(name, body.forms.subarray(at, at + size));
        continue;
      }
      if (!body.motion || body.posed) continue;
      const at = 12 * Math.max(0, Math.min(index, body.motion.length / 12 - 1)), m = body.motion;
      body.group.matrix.set(
        m[at], m[at + 3], m[at + 6], m[at + 9], m[at + 1], m[at + 4], m[at + 7], m[at + 10], m[at + 2], m[at + 5], m[at + 8], m[at + 11], 0, 0, 0, 1);
      body.group.matrixWorldNeedsUpdate = true;
    }
    this.draw();
  }

  showStart() {
    for (const [name, body] of this.bodies) {
      if (body.posed) {
        body.posed = false;
        body.group.matrix.identity();
        body.group.matrixWorldNeedsUpdate = true;
        continue;
      }
      if (body.entry.role !== "cloth" && body.entry.role !== "soft") continue;
      const baked = body.baked;
      body.baked = null;
      this.setPoints(name, body.start);
      if (body.render) this.setRender(name, body.renderStart);
      body.baked = baked;
    }
    this.draw();
  }

  refreshLines(body) {
    if (body.lines) { body.lines.removeFromParent(); body.lines.geometry.dispose(); body.lines = null; }
    if (!this.shown.lines) return;
    const index = body.mesh.geometry.index;
    const count = body.mesh.geometry.attributes.position.count;
    const seen = new Set(), pairs = [];
    const faces = index ? index.array : Uint32Array.from({ length: count }, (_, k) => k);
    for (let f = 0; f < faces.length; f += 3)
      for (const [a, b] of [[0, 1], [1, 2], [2, 0]]) {
        const p = faces[f + a], q = faces[f + b], key = p < q ? p * count + q : q * count + p;
        if (!seen.has(key)) { seen.add(key); pairs.push(p, q); }
      }
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", body.mesh.geometry.attributes.position);
    geometry.setIndex(pairs);
    body.lines = new THREE.LineSegments(geometry, new THREE.LineBasicMaterial({ color: css("--night"), transparent: true, opacity: 0.5 }));
    body.group.add(body.lines);
  }

  updateLines(body) {
    body.lines.geometry.setAttribute("position", body.mesh.geometry.attributes.position);
  }

  refresh() {
    this.person.visible = this.shown.human;
    for (const [name, body] of this.bodies) {
      const chosen = name === this.selected || this.chosen.has(name);
      body.group.visible = !body.hidden;
      body.mesh.material.emissive.set(chosen ? css("--text") : 0x000000);
      body.mesh.material.emissiveIntensity = chosen && !body.plain ? (this.chosen.has(name) ? 0.3 : 0.16) : 0;  // what is coloured keeps its colours
      if (body.render) {
        body.render.visible = this.shown.render;
        body.mesh.visible = !this.shown.render && this.coloured?.body !== body;
      }
      if (body.proxy) {
        body.proxy.visible = this.shown.proxies && this.coloured?.body !== body;
        body.mesh.material.transparent = this.shown.proxies || body.entry.role === "left out";
        body.mesh.material.opacity = body.entry.role === "left out" ? 0.35 : this.shown.proxies ? 0.55 : 1;
      }
      this.refreshLines(body);
    }
    this.draw();
  }

  restyle() {
    for (const body of this.bodies.values()) {
      body.mesh.material.dispose();
      body.mesh.material = this.material(body.entry.role);
      if (body.render) body.render.material = this.material(body.entry.role);
    }
    this.makeGround();
    this.refresh();
  }

  toggle(name) {
    this.shown[name] = !this.shown[name];
    this.refresh();
    return this.shown[name];
  }

  // Lights the body that the panel is about.
  select(name) {
    this.selected = name;
    this.refresh();
  }

  // Lights what is chosen by hand.
  choose(names) {
    this.chosen = new Set(names);
    this.refresh();
  }

  bounds(name = "") {
    const box = new THREE.Box3();
    for (const [key, body] of this.bodies) if (name ? key === name : !body.hidden) box.expandByObject(body.mesh);
    if (box.isEmpty()) box.set(new THREE.Vector3(-1, 0, -1), new THREE.Vector3(1, 1.8, 1));
    return box;
  }

  boundsOf(names) {
    const box = new THREE.Box3();
    for (const name of names) { const body = this.bodies.get(name); if (body) box.expandByObject(body.mesh); }
    return box;
  }

  middle(names) { return this.boundsOf(names).getCenter(new THREE.Vector3()); }

  // Dots every half metre on the ground; the one light is on the bodies, not on a floor.
  makeGround() {
    this.ground.clear();
    if (this.groundHeight === null || this.groundHeight === undefined) return;
    const size = this.bounds().getSize(new THREE.Vector3());
    const step = Math.max(size.x, size.z) > 1.2 ? 0.5 : 0.1;
    const places = [];
    const middle = this.bounds().getCenter(new THREE.Vector3());
    const cx = Math.round(middle.x / step), cz = Math.round(middle.z / step);
    for (let i = -16; i <= 16; i++)
      for (let j = -16; j <= 16; j++)
        if (i * i + j * j < 262) places.push((cx + i) * step, this.groundHeight, (cz + j) * step);
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.Float32BufferAttribute(places, 3));
    this.ground.add(new THREE.Points(geometry, new THREE.PointsMaterial({ color: css("--faint"), size: 2.2, sizeAttenuation: false })));
  }

  makePerson() {
    const group = new THREE.Group();
    const material = new THREE.MeshStandardMaterial({ color: 0xb9aed2, roughness: 1 });
    const rod = (radius, from, to) => {
      const a = new THREE.Vector3(...from), b = new THREE.Vector3(...to), way = b.clone().sub(a);
      const mesh = new THREE.Mesh(new THREE.CapsuleGeometry(radius, way.length(), 6, 14), material);
      mesh.position.copy(a).addScaledVector(way, 0.5);
      mesh.quaternion.setFromUnitVectors(new THREE.Vector3(0, 1, 0), way.normalize());
      group.add(mesh);
    };
    const head = new THREE.Mesh(new THREE.SphereGeometry(0.11, 20, 16), material);
    head.position.y = PERSON_M - 0.11;
    group.add(head);
    rod(0.05, [0, 1.38, 0], [0, 1.58, 0]);
    rod(0.12, [0, 0.95, 0], [0, 1.31, 0]);
    for (const side of [-1, 1]) {
      rod(0.065, [side * 0.09, 0.065, 0], [side * 0.09, 0.85, 0]);
      rod(0.045, [side * 0.2, 1.38, 0], [side * 0.25, 0.82, 0.04]);
    }
    group.visible = false;
    return group;
  }

  placePerson() {
    const box = this.bounds();
    this.person.position.set(box.min.x - 0.45, this.groundHeight ?? box.min.y, (box.min.z + box.max.z) / 2);
  }

  // Puts a camera as near as every point allows (of a large mesh, a sample), with a margin, looking as it does now.
  aim(camera, target, name = "") {
    const box = this.bounds(name);
    if (this.shown.human && !name) box.expandByObject(this.person);
    const center = box.getCenter(new THREE.Vector3());
    const way = camera.position.clone().sub(target);
    target.copy(center);
    camera.position.copy(center).add(way.setLength(1));
    camera.lookAt(center);
    camera.updateMatrixWorld();
    const tall = Math.tan(camera.fov * Math.PI / 360) * 0.84, wide = tall * camera.aspect * 0.92;
    const side = new THREE.Vector3(), up = new THREE.Vector3(), back = new THREE.Vector3(), at = new THREE.Vector3();
    camera.matrixWorld.extractBasis(side, up, back);
    let away = 1e-3;
    const include = (x, y, z) => {
      at.set(x, y, z).sub(center);
      away = Math.max(away, at.dot(back) + Math.max(Math.abs(at.dot(side)) / wide, Math.abs(at.dot(up)) / tall));
    };
    for (const [key, body] of this.bodies) {
      if (name && key !== name) continue;
      const points = body.mesh.geometry.attributes.position;
      for (let k = 0; k < points.count; k += Math.ceil(points.count / 3000)) include(points.getX(k), points.getY(k), points.getZ(k));
    }
    if (away < 0.01 || (this.shown.human && !name))
      for (let k = 0; k < 8; k++) include(box[k & 1 ? "max" : "min"].x, box[k & 2 ? "max" : "min"].y, box[k & 4 ? "max" : "min"].z);
    camera.position.copy(center).addScaledVector(back, away);
    camera.near = away / 200;
    camera.far = away * 40;
    camera.updateProjectionMatrix();
  }
}
