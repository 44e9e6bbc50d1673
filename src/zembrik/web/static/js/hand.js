// The hand bar: what is chosen, numbers for a gesture, and what else is done with several bodies at once.
import { Choice } from "./choice.js";
import { KINDS, Pennants } from "./pennants.js";

const $ = (id) => document.getElementById(id);

export class Hand {
  // send: posts an edit, resolves when its answer is shown. open: opens the panel of a body. first: goes to the first frame. base: the revision that is seen.
  constructor(view, shot, { send, open, first, base, station, drawn }) {
    Object.assign(this, { view, shot, send, open, first, base, station, drawn });
    this.form = $("hand");
    this.pennants = new Pennants(view, $("pennants"), (amount) => this.tell(amount), (names, amount) => this.keep(names, amount));
    this.choice = new Choice(view, $("lasso"), (names, open) => { this.show(); if (open && names.length) this.open(names.at(-1)); });
    this.form.addEventListener("submit", (event) => { event.preventDefault(); this.byNumbers(); });
    this.form.addEventListener("click", (event) => this.click(event));
    this.form.addEventListener("change", () => this.options());
    $("by-name").addEventListener("input", (event) => { this.choice.set(this.choice.byName(event.target.value), false); });
    $("by-name").addEventListener("keydown", (event) => {
      if (event.key === "Enter") { event.preventDefault(); event.target.blur(); if (this.names.length) this.open(this.names.at(-1)); }
      if (event.key === "Escape") { event.target.value = ""; this.choice.set([], false); event.target.blur(); }
      event.stopPropagation();
    });
    document.addEventListener("pointerdown", (event) => this.form.querySelectorAll("details[open]").forEach((box) => { if (!box.contains(event.target)) box.open = false; }));
  }

  get names() { return this.choice.names; }
  field(name) { return this.form.elements[name]; }
  group() { return this.view.groups.find((one) => one.bodies.length === this.names.length && one.bodies.every((name) => this.view.chosen.has(name))); }

  // Draws the bar for what is chosen. Places are those of the start: at later frames the bar offers to go there.
  show() {
    const { names } = this, group = this.group();
    this.form.hidden = !names.length;
    $("hand-title").textContent = group ? `${group.name} · ${names.length}` : names.length === 1 ? names[0] : `${names.length} bodies`;
    this.form.classList.toggle("still", !this.view.atStart);
    if (document.activeElement !== this.field("group")) this.field("group").value = group?.name ?? "";
    this.form.querySelector(".of-group").hidden = !group;
    if (group) {
      this.form.querySelector("[data-hand=hide-group]").textContent = group.hidden ? "Show" : "Hide";
      this.form.querySelector("[data-hand=lock-group]").textContent = group.locked ? "Unlock" : "Lock";
    }
    const donors = [...this.view.bodies.keys()].filter((name) => name !== names[0]).slice(0, 300);
    this.field("donor").replaceChildren(...donors.map((name) => new Option(name, name)));
    document.querySelectorAll("#bodies .chip[data-body]").forEach((chip) => chip.classList.toggle("sel", this.view.chosen.has(chip.dataset.body)));
    this.pennants.around(names);
  }

  // After the scene was loaded anew.
  reloaded() {
    this.view.choose(this.names.filter((name) => this.view.bodies.has(name)));
    this.show();
  }

  use(kind) {
    this.form.querySelectorAll("[data-kind]").forEach((button) => button.setAttribute("aria-checked", String(button.dataset.kind === kind)));
    this.form.querySelectorAll(".numbers").forEach((span) => { span.hidden = span.dataset.of !== kind; });
    this.pennants.use(kind);
  }

  next() { this.use(KINDS[(KINDS.indexOf(this.pennants.kind) + 1) % KINDS.length]); }

  options() {
    const grid = Number.parseFloat(this.field("grid").value.replace(",", "."));
    Object.assign(this.pennants.options, { pivot: this.field("pivot").value, snap: this.field("snap").value, grid });
    this.form.querySelector("label[data-of=grid]").hidden = this.field("snap").value !== "grid";
    if (this.field("pivot").value !== "clicked") this.pennants.clicked = null;
    this.pennants.place();
  }

  // Where a click sets the pivot: true when it was taken for that.
  clicked(event) {
    if (this.field("pivot").value !== "clicked" || !this.names.length || this.pennants.clicked) return false;
    const hit = this.view.hit(this.view.sight(event));
    if (!hit) return false;
    this.pennants.clicked = hit.point.clone();
    this.pennants.place();
    return true;
  }

  // What a gesture amounts to so far, in the bar's own numbers.
  tell(amount) {
    const shown = (v) => String(Number(v.toFixed(4)));
    const { move = [0, 0, 0], angle = 0, factor = 1 } = amount ?? {};
    ["x", "y", "z"].forEach((axis, k) => { this.field(`move_${axis}`).value = shown(move[k]); });
    this.field("angle").value = shown(angle);
    this.field("factor").value = shown(factor);
    if (amount?.kind === "turn") {
      const k = amount.axis.findIndex((v) => Math.abs(v) === 1);
      if (k >= 0) this.field("axis").value = "XYZ"[k];
    }
  }

  // Sends an edit of what is chosen; resolves with the names of bodies that came by it, when they are drawn.
  post(what, values, names = this.names) {
    return this.edit(what, { names: JSON.stringify(names), body: names.at(-1) ?? "", ...values });
  }

  async edit(what, values) {
    const had = new Set(this.view.order), seen = this.base();
    await this.send(`/shots/${this.shot}/${what}`, () => ({ base: this.base(), station: this.station(), ...values }));
    await this.drawn(this.base() === seen);
    return this.view.order.filter((name) => !had.has(name));
  }

  focus() { if (!this.form.hidden) this.form.querySelector(".numbers:not([hidden]) input").focus(); }

  keep(names, amount) {
    if (amount.surface) {
      const { point, normal } = amount.surface;
      return this.post("stand", { point: JSON.stringify(point), normal: JSON.stringify(normal), upright: Number(this.field("snap").value === "upright") }, names);
    }
    return this.post("gesture", {
      move: JSON.stringify(amount.move), axis: JSON.stringify(amount.axis), angle: String(amount.angle), factor: String(amount.factor), pivot: amount.pivot,
    }, names);
  }

  byNumbers() {
    const number = (name) => this.field(name).value;
    const { kind } = this.pennants, values = {};
    const plain = (text) => Number.parseFloat(text.trim().replace(",", ".").replace("−", "-"));
    if (kind === "move") {
      const move = ["x", "y", "z"].map((axis) => plain(number(`move_${axis}`)));
      values.move = move.every(Number.isFinite) ? JSON.stringify(move) : "\"a number that is none\"";
    } else if (kind === "turn") { values.axis = JSON.stringify("XYZ".split("").map((a) => Number(a === number("axis")))); values.angle = number("angle"); }
    else values.factor = number("factor");
    const pivot = this.field("pivot").value;
    values.pivot = pivot === "clicked" && this.pennants.clicked ? JSON.stringify(this.pennants.clicked.toArray()) : pivot === "clicked" ? "middle" : pivot;
    this.post("gesture", values).then(() => this.tell(null));
  }

  click(event) {
    const kind = event.target.closest("[data-kind]");
    if (kind) { this.use(kind.dataset.kind); return; }
    const what = event.target.closest("[data-hand]")?.dataset.hand;
    if (what) this.act(what);
  }

  act(what) {
    const { names } = this, group = this.group(), value = (name) => this.field(name).value;
    const close = () => this.form.querySelectorAll("details[open]").forEach((box) => { box.open = false; });
    if (!names.length) return;
    const fresh = (added) => { if (added.length) this.choice.set(added, false); };
    const edit = (values) => this.edit("group-edit", { name: group.name, body: names.at(-1), ...values });
    const acts = {
      first: () => this.first(),
      none: () => this.choice.set([], false),
      fall: () => htmx.ajax("POST", `/shots/${this.shot}/layers/chosen`, { source: "#hand-errand", target: "#hand-errand", values: { names: JSON.stringify(names) } }),
      down: () => this.post("let-down", {}),
      copy: () => this.post("duplicate", { count: value("count"), x: value("step_x"), y: value("step_y"), z: value("step_z"), turn: value("step_turn") }).then(fresh),
      mirror: () => this.post("duplicate", { mirror: value("mirror"), at: value("mirror_at") }).then(fresh),
      group: () => this.post("group", { title: value("group") }),
      "rename-group": () => edit({ do: "rename", title: value("group") }),
      "hide-group": () => edit({ do: group.hidden ? "not hidden" : "hidden" }),
      "lock-group": () => edit({ do: group.locked ? "not locked" : "locked" }),
      apart: () => edit({ do: "apart" }),
      settings: () => this.post("settings-onto", {}),
      exchange: () => this.post("exchange", { other: value("donor"), ...(this.field("donor_gone").checked ? { gone: "yes" } : {}) }),
      remove: () => this.post("remove", { number: this.numbers(names) }),
    };
    close();
    acts[what]?.();
  }

  numbers(names) {
    const all = [...this.view.order];
    return names.map((name) => all.indexOf(name));
  }
}
