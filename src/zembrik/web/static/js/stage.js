// A shot's bodies, proxies, ground and a person for scale as a scene. It computes nothing a result depends on.
import * as THREE from "/static/vendor/three/three.module.js";
import { Copies, setColumns, setPose } from "./copies.js";

export const css = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
const PERSON_M = 1.75, AS_IT_IS = new THREE.Matrix4();

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
    this.materials = new Map();
    this.copies = new Copies(this);
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
    const shapes = this.shapes(pack);
    for (const entry of pack.head.bodies) {
      if (!entry.points && entry.shape === undefined) continue;
      const group = new THREE.Group(), body = { entry, group };
      if (entry.points) {
        const smooth = this.geometry(pack.floats(entry.points), pack.whole(entry.faces));
        Object.assign(body, { start: new Float32Array(pack.floats(entry.points)), startFaces: smooth.index });
        body.mesh = new THREE.Mesh(smooth, this.material(entry.role));
      } else {
        body.shape = shapes[entry.shape];
        body.place = new THREE.Matrix4();
        setColumns(body.place, pack.floats(entry.place), 0);
        body.mesh = this.placed(new THREE.Mesh(body.shape.drawn, this.shared(entry.role)), body.place);
      }
      body.mesh.name = entry.name;
      group.add(body.mesh);
      if (entry.render?.points) {
        const detailed = this.geometry(pack.floats(entry.render.points), pack.whole(entry.render.faces));
        body.render = new THREE.Mesh(detailed, this.material(entry.role));
        body.renderStart = new Float32Array(pack.floats(entry.render.points));
      } else if (entry.render) {
        const at = setColumns(new THREE.Matrix4(), pack.floats(entry.render.place), 0);
        body.render = this.placed(new THREE.Mesh(shapes[entry.render.shape].smooth, this.shared(entry.role)), at);
      }
      if (body.render) { body.render.name = entry.name; group.add(body.render); }
      if (entry.proxy) body.shell = [shapes[entry.proxy.shape], setColumns(new THREE.Matrix4(), pack.floats(entry.proxy.place), 0)];
      if (entry.pins && entry.pins[1]) {
        body.pinned = pack.whole(entry.pins);
        const dots = new THREE.BufferGeometry();
        dots.setAttribute("position", new THREE.BufferAttribute(this.pick(this.startOf(body), body.pinned), 3));
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
    this.copies.gather();
    this.groups = pack.head.groups ?? [];
    for (const group of this.groups)
      for (const name of group.bodies) {
        const body = this.bodies.get(name);
        if (body) Object.assign(body, { hidden: group.hidden, locked: group.locked, of: group.name });
      }
    this.marks = pack.head.marks;
    this.firstFrame = pack.head.frames[0];
    this.groundHeight = pack.head.ground;
    this.makeGround();
    this.placePerson();
    this.refresh();
  }

  // The meshes that bodies share, each made once: smooth, and as it is drawn.
  shapes(pack) {
    return (pack.head.shapes ?? []).map((one) => {
      const points = pack.floats(one.points), smooth = this.geometry(points, pack.whole(one.faces));
      const coarse = one.coarse && this.geometry(pack.floats(one.coarse.points), pack.whole(one.coarse.faces));
      const drawn = smooth.index.count < 3 * 600 ? this.faceted(smooth) : smooth;
      return { name: one.name, points, smooth, drawn, coarse, faces: smooth.index };
    });
  }

  // One material for all bodies of a role that look alike.
  shared(role) {
    if (!this.materials.has(role)) this.materials.set(role, this.material(role));
    return this.materials.get(role);
  }

  placed(mesh, matrix) {
    mesh.matrixAutoUpdate = false;
    mesh.matrix.copy(matrix);
    mesh.matrixWorldNeedsUpdate = true;
    return mesh;
  }

  // Where a body's points are at the start, in world space.
  startOf(body) {
    if (body.start) return body.start;
    const points = new Float32Array(body.shape.points);
    new THREE.BufferAttribute(points, 3).applyMatrix4(body.place);
    return points;
  }

  startFacesOf(body) { return body.startFaces ?? body.shape.faces; }

  pick(points, numbers) {
    const out = new Float32Array(numbers.length * 3);
    numbers.forEach((n, k) => out.set(points.subarray(3 * n, 3 * n + 3), 3 * k));
    return out;
  }

  // Takes what is baked of each body: faces, or the mesh that its poses place.
  setBaked(bodies) {
    for (const { name, faces, render } of bodies) {
      const body = this.bodies.get(name);
      if (!body || render) continue;
      body.moved = undefined;
      if (faces) this.setFaces(name, faces);
      if (body.entry.role === "left out") {  // of a cache that was handed in: it is what there is to look at
        body.entry.role = "handed in";
        body.mesh.material = body.shape ? this.shared(body.entry.role) : this.material(body.entry.role);
      }
    }
    this.copies.gather();
  }

  // What is cached is where it is, whatever else moves the body.
  setCached(name, points) {
    const body = this.bodies.get(name);
    if (!body) return;
    body.cached = true;
    if (body.motion) { body.group.matrix.identity(); body.group.matrixWorldNeedsUpdate = true; }
    this.setPoints(name, points);
  }

  setFaces(name, faces) {
    const body = this.bodies.get(name);
    if (body) body.baked = new THREE.BufferAttribute(new Uint32Array(faces), 1);
  }

  // Puts every body where a frame of a bake has it: see `Frames.at`.
  setFrame(bodies) {
    for (const [name, values, baked] of bodies) {
      if (baked.render) this.setRender(name, values);
      else if (baked.shape) this.setPose(name, values, baked);
      else this.setCached(name, values);
    }
  }

  setPoints(name, points) {
    const body = this.bodies.get(name);
    if (!body) return;
    const geometry = body.mesh.geometry;
    const faces = body.baked || this.startFacesOf(body), shares = body.shape && !body.alone;
    if (shares) body.alone = true;  // it changes its form: it is drawn by itself
    if (body.shape || body.alone) this.placed(body.mesh, AS_IT_IS);
    if (shares || geometry.attributes.position.count * 3 !== points.length || geometry.index !== faces) {
      const fresh = new THREE.BufferGeometry();
      fresh.setAttribute("position", new THREE.BufferAttribute(new Float32Array(points), 3));
      fresh.setIndex(faces);
      fresh.computeVertexNormals();
      if (!shares) geometry.dispose();
      body.mesh.geometry = fresh;
      this.refreshLines(body);
    } else {
      geometry.attributes.position.array.set(points);
      geometry.attributes.position.needsUpdate = true;
      geometry.computeVertexNormals();
    }
    if (body.pins && points.length === body.start?.length) {
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

  // Puts a body where a pose has it: shift in metres and quaternion x y z w, against its place, or against that of the
  // mesh that was baked: `baked` is {shape, place}.
  setPose(name, pose, baked = null) {
    const body = this.bodies.get(name);
    if (!body) return;
    const { group } = body;
    group.matrixAutoUpdate = false;
    setPose(group.matrix, pose);
    if (baked) this.bakedPlace(body, baked);
    group.matrixWorldNeedsUpdate = true;
    body.posed = true;
  }

  // What was baked stood elsewhere, or was another mesh, where the setup was changed since.
  bakedPlace(body, { shape, place }) {
    if (body.shape?.name === shape.name) {
      body.moved ??= place.equals(body.place) ? 0 : new THREE.Matrix4().multiplyMatrices(place, body.place.clone().invert());
      if (body.moved) body.group.matrix.multiply(body.moved);
    } else if (body.entry.role === "rigid" || !body.forms) {
      body.mesh.geometry = shape.drawn;
      this.placed(body.mesh, place);
      body.alone = true;
    }
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
      if (body.entry.shown) this.see(body, index + this.firstFrame);
      if (body.cached) continue;
      if (body.forms) {
        const size = body.start.length, at = size * Math.max(0, Math.min(index, body.forms.length / size - 1));
        this.setPoints(name, body.forms.subarray(at, at + size));
        continue;
      }
      if (!body.motion || body.posed) continue;
      setColumns(body.group.matrix, body.motion, 12 * Math.max(0, Math.min(index, body.motion.length / 12 - 1)));
      body.group.matrixWorldNeedsUpdate = true;
    }
    this.draw();
  }

  // A body comes and goes at the frames that its setup says; before the first of them it is as that one says.
  see(body, frame) {
    const keys = body.entry.shown, before = keys.filter(([at]) => at <= frame);
    body.away = !(before.length ? before.at(-1) : keys[0])[1];
    body.group.visible = !body.hidden && !body.away;
  }

  showStart() {
    for (const [name, body] of this.bodies) {
      body.cached = false;
      if (body.alone) {
        body.alone = false;
        if (body.shape) body.mesh.geometry = body.shape.drawn;
        this.placed(body.mesh, body.place ?? AS_IT_IS);
      }
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
    const { geometry } = body.mesh, lines = new THREE.BufferGeometry();
    lines.setAttribute("position", geometry.attributes.position);
    lines.setIndex((geometry.userData.edges ??= this.edgesOf(geometry)));
    this.ink ??= new THREE.LineBasicMaterial({ color: css("--night"), transparent: true, opacity: 0.5 });
    body.lines = this.placed(new THREE.LineSegments(lines, this.ink), body.mesh.matrix);
    body.group.add(body.lines);
  }

  // The numbers of the points at both ends of every edge.
  edgesOf(geometry) {
    const { index, attributes: { position: { count } } } = geometry, seen = new Set(), pairs = [];
    const faces = index ? index.array : Uint32Array.from({ length: count }, (_, k) => k);
    for (let f = 0; f < faces.length; f += 3)
      for (const [a, b] of [[0, 1], [1, 2], [2, 0]]) {
        const p = faces[f + a], q = faces[f + b], key = p < q ? p * count + q : q * count + p;
        if (!seen.has(key)) { seen.add(key); pairs.push(p, q); }
      }
    return pairs;
  }

  // The proxy's wires are made when they are first asked for.
  showProxy(body) {
    if (this.shown.proxies && !body.proxy && body.shell) {
      const [shape, place] = body.shell;
      shape.wires ??= new THREE.WireframeGeometry(shape.smooth);
      this.wires ??= new THREE.LineBasicMaterial({ color: css("--lamp"), transparent: true, opacity: 0.75 });
      body.proxy = this.placed(new THREE.LineSegments(shape.wires, this.wires), place);
      body.group.add(body.proxy);
    }
    if (body.proxy) body.proxy.visible = this.shown.proxies && this.coloured?.body !== body;
  }

  updateLines(body) {
    body.lines.geometry.setAttribute("position", body.mesh.geometry.attributes.position);
  }

  refresh() {
    this.person.visible = this.shown.human;
    for (const [name, body] of this.bodies) {
      const chosen = name === this.selected || this.chosen.has(name), { role } = body.entry;
      body.group.visible = !body.hidden && !body.away;
      const own = chosen || (this.shown.proxies && body.shell);  // looks unlike its copies
      if (body.shape && !body.plain) {
        if (own && body.mesh.material === this.materials.get(role)) body.mesh.material = this.material(role);
        else if (!own && body.mesh.material !== this.shared(role)) { body.mesh.material.dispose(); body.mesh.material = this.shared(role); }
      }
      if (own || !body.shape) {
        const { material } = body.mesh;
        material.emissive.set(chosen ? css("--text") : 0x000000);
        material.emissiveIntensity = chosen && !body.plain ? (this.chosen.has(name) ? 0.3 : 0.16) : 0;  // what is coloured keeps its colours
        material.transparent = role === "left out" || (this.shown.proxies && Boolean(body.shell));
        material.opacity = role === "left out" ? 0.35 : material.transparent ? 0.55 : 1;
      }
      if (body.render) body.render.visible = this.shown.render;
      body.mesh.visible = body.wanted = !(body.render && this.shown.render) && this.coloured?.body !== body;
      this.showProxy(body);
      this.refreshLines(body);
    }
    this.copies.restyle();
    this.draw();
  }

  restyle() {
    for (const material of this.materials.values()) material.dispose();
    this.materials.clear();
    this.wires?.dispose();
    this.wires = null;
    for (const body of this.bodies.values()) {
      const { role } = body.entry;
      if (!body.shape) body.mesh.material.dispose();
      body.mesh.material = body.shape ? this.shared(role) : this.material(role);
      if (body.render) body.render.material = body.shape ? this.shared(role) : this.material(role);
      if (body.proxy) { body.proxy.removeFromParent(); body.proxy = null; }
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
    const most = Math.max(30, name ? 3000 : 200000 / (this.bodies.size + 1)), p = new THREE.Vector3();
    for (const [key, body] of this.bodies) {
      if (name && key !== name) continue;
      const points = body.mesh.geometry.attributes.position;
      body.mesh.updateWorldMatrix(true, false);
      for (let k = 0; k < points.count; k += Math.ceil(points.count / most)) include(...p.fromBufferAttribute(points, k).applyMatrix4(body.mesh.matrixWorld));
    }
    if (away < 0.01 || (this.shown.human && !name))
      for (let k = 0; k < 8; k++) include(box[k & 1 ? "max" : "min"].x, box[k & 2 ? "max" : "min"].y, box[k & 4 ? "max" : "min"].z);
    camera.position.copy(center).addScaledVector(back, away);
    camera.near = away / 200;
    camera.far = away * 40;
    camera.updateProjectionMatrix();
  }
}
