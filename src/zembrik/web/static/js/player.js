// Plays frames by a clock: at true speed (frames that come late are left out) or every frame, over all or a loop.
export class Player {
  // fps, range: () => [first, last] that can be played; ready(frame); show(frame); changed(playing).
  constructor(told) { Object.assign(this, told, { playing: false, every: false, loop: null, count: 0 }); }

  span() {
    const [first, last] = this.range();
    if (!this.loop) return [first, last];
    const from = Math.max(first, this.loop[0]), to = Math.min(last, this.loop[1]);
    return from < to ? [from, to] : [first, last];
  }

  play(frame) {
    const [first, last] = this.span();
    this.frame = frame >= last || frame < first ? first : frame;
    if (this.frame !== frame) this.show(this.frame);
    this.playing = true;
    this.began = performance.now();
    this.from = this.frame;
    this.changed(true);
    requestAnimationFrame((now) => this.tick(now));
  }

  pause() { if (this.playing) { this.playing = false; this.changed(false); } }

  tick(now) {
    if (!this.playing) return;
    const [first, last] = this.span(), due = this.from + Math.max(0, Math.floor(((now - this.began) / 1000) * this.fps()));
    this.want(this.frame);
    let next = this.every ? Math.min(this.frame + 1, due) : Math.min(due, last);
    while (next > this.frame && !this.ready(next)) next--;  // what is not here yet is waited for
    if (next > last) next = last;
    if (next !== this.frame) { this.frame = next; this.count++; this.show(next); }
    if (due - next > (this.every ? 1 : this.fps() / 4)) { this.began = now; this.from = next; }
    if (this.frame >= last && due > last) {
      if (!this.loop && !this.more?.()) { this.pause(); return; }
      if (this.loop) { this.frame = this.from = first; this.began = now; this.show(first); }
    }
    requestAnimationFrame((t) => this.tick(t));
  }
}
