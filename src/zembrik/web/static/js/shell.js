// What every page has: light or dark, closing notices, and lists that follow the work that is done.
import { listen } from "./listen.js";

const work = () => htmx.trigger(document.body, "work");
if (document.querySelector("[data-listen]")) listen(0, work, work);

document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-action]");
  if (!button) return;
  if (button.dataset.action === "theme") {
    const theme = document.documentElement.dataset.theme === "dark" ? "light" : "dark";
    document.documentElement.dataset.theme = theme;
    localStorage.setItem("zembrik-theme", theme);
    document.dispatchEvent(new CustomEvent("theme-changed"));
  }
  if (button.dataset.action === "leave") button.closest(".find").remove();
  if (button.dataset.action === "word") putWord(button.dataset.word);
  if (button.dataset.action === "close-notice") setTimeout(() => button.closest(".notice")?.remove(), 0);
});

// A word of a file's pattern goes in where the cursor is.
function putWord(word) {
  const field = document.querySelector("[name=pattern]"), at = field.selectionStart ?? field.value.length;
  field.setRangeText(word, at, field.selectionEnd ?? at, "end");
  field.focus();
  field.dispatchEvent(new Event("input", { bubbles: true }));
}

// Fields that tick others, choose what is shown beside them, or send their form.
document.addEventListener("change", (event) => {
  const field = event.target;
  if (field.dataset.ticks) field.closest("table").querySelectorAll(`[name=${field.dataset.ticks}]`).forEach((box) => { box.checked = field.checked; });
  if ("shows" in field.dataset) field.form.dataset.how = field.value;
  if ("submits" in field.dataset) field.form.requestSubmit();
});

// A picture that is not there yet leaves no broken one behind.
document.addEventListener("error", (event) => { if (event.target.matches?.("img[data-optional]")) event.target.remove(); }, true);

// A refused change comes back as a notice; htmx swaps it like any other answer.
document.addEventListener("htmx:beforeSwap", (event) => {
  if (event.detail.xhr.status >= 400) {
    event.detail.shouldSwap = true;
    event.detail.isError = false;
    document.getElementById("notices").replaceChildren();
    giveBack(event.detail.requestConfig?.elt);
  } else if (event.detail.target.id === "panel") {
    document.getElementById("notices").replaceChildren();  // what they told of is past
  }
});

// A value that was refused goes back to what it was.
function giveBack(from) {
  if (!from) return;
  const fields = from.matches("input,select,textarea") ? [from]
    : from.matches("form") && (from.getAttribute("hx-trigger") || "").startsWith("change") ? [...from.elements] : [];
  for (const field of fields) {
    if (field.matches("select")) [...field.options].forEach((o) => { o.selected = o.defaultSelected; });
    else if (["checkbox", "radio"].includes(field.type)) field.checked = field.defaultChecked;
    else if (field.type !== "hidden" && field.type !== "file") field.value = field.defaultValue;
  }
}

// Answers may overtake one another. What a person asked for stays: the answer to what they asked before it no longer
// replaces it, and neither does a panel that came by itself (a refresh, an errand's end) and was asked for before it was shown.
const asked = new WeakMap(); // request → when, in counts of requests and answers
const shown = { asked: 0, at: 0 }; // the last answer to a person
let clock = 0;
document.addEventListener("htmx:beforeRequest", (event) => asked.set(event.detail.xhr, ++clock));
document.addEventListener("htmx:beforeSwap", (event) => {
  const { xhr, target, requestConfig } = event.detail;
  if (target.id !== "panel" || xhr.status >= 400) return;
  const alone = requestConfig.headers["X-By-Itself"] || requestConfig.elt?.getAttribute("hx-trigger")?.startsWith("load");
  const when = asked.get(xhr);
  if (requestConfig.verb === "get" && when < (alone ? shown.at : shown.asked)) event.detail.shouldSwap = false;
  else if (!alone) Object.assign(shown, { asked: Math.max(when, shown.asked), at: ++clock });
});

document.addEventListener("htmx:sendError", () => {
  const notices = document.getElementById("notices");
  const notice = document.createElement("div");
  notice.className = "notice";
  notice.innerHTML = '<p><b>The server does not answer.</b> Nothing was changed; try again when it is back.</p><button type="button" class="quiet" data-action="close-notice">✕</button>';
  notices.replaceChildren(notice);
});
