// Pictures of frames that were drawn once. Many cells of moving cloth take longer to draw than a frame lasts where
// there is no graphics card; a picture of all of them is shown in a few milliseconds. So a sheet draws every frame once,
// at rest and as sharp as it is looked at, and plays the pictures at the shot's own speed.
const MOST_BYTES = 400e6, SOON_MS = 700;
export const FINER = 2;  // times as fine as they are shown are pictures drawn: that makes edges smooth

export class Flipbook {
  // from: the canvas that frames are drawn on; shown: one laid over it; how: {frames, ready, draw} says which frames there
  // are from where we are, whether one can be drawn yet, and draws one at once; changed tells how many are kept.
  constructor(from, shown, how) {
    Object.assign(this, { from, shown, how, pictures: new Map(), age: 0, on: true, timer: 0 });
    document.addEventListener("visibilitychange", () => this.soon());
  }

  has(frame) { return this.pictures.has(frame); }
  get size() { return this.pictures.size; }

  // What was drawn is no longer what is to be seen: forget it, and begin anew when nothing more changes for a while.
  clear() {
    this.age++;
    for (const picture of this.pictures.values()) picture.close();
    this.pictures.clear();
    this.cover(false);
    this.how.changed(0);
    this.soon();
  }

  soon() {
    clearTimeout(this.timer);
    if (this.on) this.timer = setTimeout(() => this.fill(), SOON_MS);
  }

  // What is drawn on goes on taking the mouse when a picture hides it.
  cover(yes) {
    this.shown.hidden = !yes;
    this.from.style.opacity = yes ? 0 : 1;
  }

  // Shows a frame's picture, if it is there.
  show(frame) {
    const picture = this.pictures.get(frame);
    this.cover(Boolean(picture));
    if (!picture) return false;
    if (this.shown.width !== picture.width || this.shown.height !== picture.height) Object.assign(this.shown, { width: picture.width, height: picture.height });
    const paper = this.shown.getContext("2d");
    paper.clearRect(0, 0, picture.width, picture.height);
    paper.drawImage(picture, 0, 0);
    return true;
  }

  // To be called right after the frame was drawn, in the same turn.
  async keep(frame) {
    const [resizeWidth, resizeHeight] = [this.from.width, this.from.height].map((n) => Math.round(n / FINER));
    const age = this.age, picture = await createImageBitmap(this.from, { resizeWidth, resizeHeight, resizeQuality: "medium" });
    await this.drawn();
    if (age !== this.age || this.pictures.has(frame)) { picture.close(); return; }
    this.pictures.set(frame, picture);
    this.how.changed(this.pictures.size);
  }

  // Waits until the picture is really there: drawing is only asked for, and what is asked for piles up.
  async drawn() {
    const gl = this.from.getContext("webgl2"), fence = gl.fenceSync(gl.SYNC_GPU_COMMANDS_COMPLETE, 0), until = performance.now() + 5000;
    gl.flush();
    while (gl.getSyncParameter(fence, gl.SYNC_STATUS) !== gl.SIGNALED && performance.now() < until) await new Promise((done) => setTimeout(done, 5));
    gl.deleteSync(fence);
  }

  // How sharp pictures may be, so that all of them have room: 1 is a dot of the screen each.
  sharpness(count) {
    return Math.min(1, Math.sqrt(MOST_BYTES / (4 * count * Math.max(1, this.from.clientWidth * this.from.clientHeight))));
  }

  // Draws what is missing, from where we are on, one frame a turn, until something else is to be done.
  async fill() {
    const age = this.age, going = () => age === this.age && this.on && !this.how.busy() && !document.hidden;
    let drew = 0;
    for (const frame of going() ? this.how.frames() : []) {
      if (this.has(frame)) continue;
      if (!going()) break;
      if (!this.how.ready(frame)) { this.soon(); break; }
      this.how.draw(frame, drew === 0);
      await this.keep(frame);
      drew++;
      await new Promise((done) => setTimeout(done));
    }
    if (drew) this.how.after();
  }
}
