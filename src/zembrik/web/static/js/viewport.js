// Shows a stage in one canvas: camera, marks, what is lit and coloured, what is pointed at.
import * as THREE from "/static/vendor/three/three.module.js";
import { OrbitControls } from "/static/vendor/three/OrbitControls.js";
import { Stage, css } from "./stage.js";

const STILL_MS = 350;

export class Viewport extends Stage {
  constructor(canvas, scaleBar, tag) {
    super();
    this.canvas = canvas;
    this.scaleBar = scaleBar;
    this.tag = tag;
    this.renderer = new THREE.WebGLRenderer({ canvas, antialias: true, alpha: true });
    this.renderer.setPixelRatio(Math.min(devicePixelRatio, 2));
    this.camera = new THREE.PerspectiveCamera(36, 1, 0.01, 500);
    this.camera.position.set(4, 3, 6);
    this.controls = new OrbitControls(this.camera, canvas);
    this.controls.addEventListener("change", () => this.draw());
    new ResizeObserver(() => this.resize()).observe(canvas.parentElement);
    const gl = this.renderer.getContext(), told = gl.getExtension("WEBGL_debug_renderer_info");
    this.bySoftware = /swiftshader|llvmpipe|softpipe|software|basic render/i.test(told ? gl.getParameter(told.UNMASKED_RENDERER_WEBGL) : "");
    this.resize();
  }

  resize() {
    const { clientWidth: width, clientHeight: height } = this.canvas.parentElement;
    if (!width || !height) return;
    this.renderer.setSize(width, height, false);
    this.camera.aspect = width / height;
    this.camera.updateProjectionMatrix();
    this.draw();
  }

  draw() {
    if (this.pending) return;
    this.pending = requestAnimationFrame(() => {
      this.pending = 0;
      this.render(this.bySoftware && this.copies.coarser);
      this.placeTag();
      this.measureScale();
      this.drawn?.();
    });
  }

  // Without a graphics card many copies are drawn coarser while something moves, and finely once nothing does.
  render(coarse) {
    clearTimeout(this.finer);
    this.copies.coarse = coarse;
    this.renderer.render(this.scene, this.camera);
    if (coarse) this.finer = setTimeout(() => this.render(false), STILL_MS);
  }

  fit(name = "") {
    if (!this.fitted) this.camera.position.copy(this.controls.target).add(new THREE.Vector3(0.62, 0.36, 0.86));
    this.fitted = true;
    this.aim(this.camera, this.controls.target, name);
    this.controls.update();
    this.draw();
  }

  // Lights faces and points of a body as it stands in the setup; none of both puts the light out.
  light(name, faces, points) {
    if (this.lit) { this.lit.removeFromParent(); this.lit = null; }
    const body = this.bodies.get(name);
    if (body && (faces.length || points.length)) {
      this.lit = new THREE.Group();
      const index = this.startFacesOf(body).array, start = this.startOf(body), corners = [];
      for (const f of faces) for (let k = 0; k < 3; k++) corners.push(index[3 * f + k]);
      const over = (geometry, material) => { material.depthTest = false; material.transparent = true; return [geometry, material]; };
      if (corners.length) {
        const shape = new THREE.BufferGeometry();
        shape.setAttribute("position", new THREE.BufferAttribute(this.pick(start, corners), 3));
        this.lit.add(new THREE.Mesh(...over(shape, new THREE.MeshBasicMaterial({ color: css("--brick"), opacity: 0.75, side: THREE.DoubleSide }))));
      }
      if (points.length) {
        const dots = new THREE.BufferGeometry();
        dots.setAttribute("position", new THREE.BufferAttribute(this.pick(start, points), 3));
        this.lit.add(new THREE.Points(...over(dots, new THREE.PointsMaterial({ color: css("--brick"), size: 7, sizeAttenuation: false }))));
      }
      this.lit.renderOrder = 5;
      body.group.add(this.lit);
    }
    this.draw();
  }

  // Draws a body's mesh in colours of how far it is from its proxy; null gives the plain mesh back.
  colour(pack) {
    if (this.coloured) {
      const { mesh, body } = this.coloured;
      mesh.removeFromParent(); mesh.geometry.dispose(); mesh.material.dispose();
      body.mesh.visible = true;
      if (body.lines) body.lines.visible = true;
      this.coloured = null;
    }
    const body = pack && this.bodies.get(pack.head.name);
    if (body) {
      const geometry = this.geometry(pack.floats(pack.head.points), pack.whole(pack.head.faces));
      const off = pack.floats(pack.head.off), most = Math.max(pack.head.gap_m, pack.head.overhang_m, 1e-9);
      const [inside, on, outside] = ["--rain", "--text", "--brick"].map((name) => new THREE.Color(css(name)));
      const colours = new Float32Array(3 * off.length), c = new THREE.Color();
      off.forEach((v, k) => { c.copy(on).lerp(v < 0 ? inside : outside, Math.min(1, Math.abs(v) / most)).toArray(colours, 3 * k); });
      geometry.setAttribute("color", new THREE.BufferAttribute(colours, 3));
      const material = new THREE.MeshStandardMaterial({ vertexColors: true, roughness: 0.95, side: THREE.DoubleSide });
      const mesh = new THREE.Mesh(geometry, material);
      body.mesh.visible = false;
      if (body.lines) body.lines.visible = false;
      body.group.add(mesh);
      this.coloured = { mesh, body };
    }
    this.refresh();
  }

  // Draws where pairs overlap: a ball as wide as each is deep, seen through everything; an empty list takes them away.
  showPairs(pairs) {
    if (this.pairs) { this.pairs.removeFromParent(); this.pairs.dispose(); this.pairs = null; }
    if (pairs.length) {
      const material = new THREE.MeshBasicMaterial({ color: css("--brick"), transparent: true, opacity: 0.8, depthTest: false });
      this.pairs = new THREE.InstancedMesh(new THREE.SphereGeometry(0.5, 12, 8), material, pairs.length);
      const least = 0.004 * this.bounds().getSize(new THREE.Vector3()).length();  // so that the eye finds the shallow ones
      const place = new THREE.Matrix4();
      pairs.forEach((pair, k) => {
        const wide = Math.max(pair.depth_m, least);
        this.pairs.setMatrixAt(k, place.makeScale(wide, wide, wide).setPosition(...pair.at));
      });
      this.pairs.renderOrder = 6;
      this.scene.add(this.pairs);
    }
    this.draw();
  }

  lookAt(at) {
    this.controls.target.set(...at);
    this.controls.update();
    this.draw();
  }

  placeTag() {
    const mark = this.marks[0];
    if (!mark || this.hideTag) { this.tag.hidden = true; return; }
    const p = new THREE.Vector3(...mark.at).project(this.camera);
    const { clientWidth: w, clientHeight: h } = this.canvas;
    this.tag.hidden = p.z > 1 || Math.abs(p.x) > 1 || Math.abs(p.y) > 1;
    this.tag.textContent = mark.title;
    this.tag.className = mark.severe ? "tag severe" : "tag";
    this.tag.style.left = `${((p.x + 1) / 2) * w}px`;
    this.tag.style.top = `${((1 - p.y) / 2) * h}px`;
  }

  // A bar of a round length at the depth of what is looked at.
  measureScale() {
    const away = this.camera.position.distanceTo(this.controls.target);
    const metres = (2 * away * Math.tan((this.camera.fov * Math.PI) / 360)) / this.canvas.clientHeight;
    const wanted = 90 * metres, power = 10 ** Math.floor(Math.log10(wanted));
    const length = [5, 2, 1].map((n) => n * power).find((n) => n <= wanted) || power;
    const words = length >= 1 ? `${length} m` : length >= 0.01 ? `${Math.round(length * 100)} cm` : `${(length * 1000).toPrecision(1)} mm`;
    const bar = document.createElement("i");
    bar.style.width = `${length / metres}px`;
    const how = this.bySoftware && this.copies.coarser ? " · copies are coarser while they move" : "";
    this.scaleBar.replaceChildren(`${words} · Y up${how}`, bar);
  }

  // The line of sight through a place on the page.
  sight(event) {
    const box = this.canvas.getBoundingClientRect();
    const at = new THREE.Vector2(((event.clientX - box.left) / box.width) * 2 - 1, 1 - ((event.clientY - box.top) / box.height) * 2);
    const ray = new THREE.Raycaster();
    ray.setFromCamera(at, this.camera);
    return ray;
  }

  // What is hit first by a line of sight: of all bodies that are drawn, but for some.
  hit(ray, but = new Set()) {
    const drawn = [...this.bodies.entries()].filter(([name, b]) => b.group.visible && !but.has(name));
    return ray.intersectObjects(drawn.map(([, b]) => (b.render?.visible ? b.render : b.mesh)), false)[0];
  }

  picked(event) { return this.hit(this.sight(event))?.object.name ?? ""; }

  // Where a place in the world is on the canvas, pixels; null behind the camera.
  onCanvas(place) {
    const p = place.clone().project(this.camera);
    return p.z > 1 ? null : [((p.x + 1) / 2) * this.canvas.clientWidth, ((1 - p.y) / 2) * this.canvas.clientHeight];
  }

  // How many metres a pixel is at a place.
  metresPerPixel(place) {
    const away = place.clone().sub(this.camera.position).dot(this.camera.getWorldDirection(new THREE.Vector3()));
    return (2 * Math.max(away, 1e-6) * Math.tan((this.camera.fov * Math.PI) / 360)) / this.canvas.clientHeight;
  }
}
