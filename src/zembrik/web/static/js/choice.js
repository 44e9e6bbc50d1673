// Which bodies are chosen: by a click, Shift click, a box drawn with Shift, part of a name, the list, or as a group.
const FAR_PX = 5;

export class Choice {
  // view: the viewport. box: what is drawn while several are chosen. changed: is given the names, and whether to open the last.
  constructor(view, box, changed) {
    Object.assign(this, { view, box, changed });
    view.canvas.addEventListener("pointerdown", (event) => this.press(event), { capture: true });
  }

  get names() { return [...this.view.chosen]; }

  // Names that are no longer there fall away; whoever is in a group brings the whole of it unless told otherwise.
  set(names, open = true) {
    this.view.choose(names.filter((name) => this.view.bodies.has(name)));
    this.changed(this.names, open);
  }

  toggle(name) {
    const names = this.view.chosen;
    const all = this.family(name), gone = all.every((one) => names.has(one));
    this.set(gone ? this.names.filter((one) => !all.includes(one)) : [...this.names.filter((one) => !all.includes(one)), ...all.filter((one) => one !== name), name]);
  }

  // The bodies that are chosen with one: its group, or itself.
  family(name) {
    const group = this.view.groups.find((one) => one.bodies.includes(name));
    return group ? group.bodies : [name];
  }

  take(name) { this.set([...this.family(name).filter((one) => one !== name), name]); }

  // All whose names have every typed word in them.
  byName(text) {
    const words = text.toLowerCase().split(/\s+/).filter(Boolean);
    if (!words.length) return [];
    return [...this.view.bodies.keys()].filter((name) => words.every((word) => name.toLowerCase().includes(word)));
  }

  // With Shift a box is drawn; everything whose middle is seen within it is chosen too. A Shift click adds or takes away.
  press(event) {
    if (!event.shiftKey || event.button !== 0 || this.view.choosing) return;
    event.stopImmediatePropagation();
    event.preventDefault();
    const { canvas } = this.view, home = canvas.getBoundingClientRect();
    const where = (e) => [e.clientX - home.left, e.clientY - home.top], [x0, y0] = where(event);
    const edges = (x, y) => [Math.min(x, x0), Math.min(y, y0), Math.abs(x - x0), Math.abs(y - y0)];
    canvas.setPointerCapture(event.pointerId);
    const move = (now) => {
      const [left, top, width, height] = edges(...where(now));
      Object.assign(this.box.style, { left: `${left}px`, top: `${top}px`, width: `${width}px`, height: `${height}px` });
      this.box.hidden = Math.hypot(width, height) < FAR_PX;
    };
    const up = (now) => {
      now.stopImmediatePropagation();
      canvas.removeEventListener("pointermove", move);
      this.box.hidden = true;
      const [left, top, width, height] = edges(...where(now));
      if (Math.hypot(width, height) < FAR_PX) {
        const name = this.view.picked(now);
        if (name) this.toggle(name);
        return;
      }
      const inside = [...this.view.bodies].filter(([name, body]) => {
        if (body.hidden) return false;
        const at = this.view.onCanvas(this.view.middle([name]));
        return at && at[0] >= left && at[0] <= left + width && at[1] >= top && at[1] <= top + height;
      }).map(([name]) => name);
      this.set([...new Set([...this.names, ...inside])]);
    };
    canvas.addEventListener("pointermove", move);
    canvas.addEventListener("pointerup", up, { once: true, capture: true });
  }
}
