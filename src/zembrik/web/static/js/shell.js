// What every page has: light or dark, and closing notices.
document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-action]");
  if (!button) return;
  if (button.dataset.action === "theme") {
    const theme = document.documentElement.dataset.theme === "dark" ? "light" : "dark";
    document.documentElement.dataset.theme = theme;
    localStorage.setItem("zembrik-theme", theme);
    document.dispatchEvent(new CustomEvent("theme-changed"));
  }
  if (button.dataset.action === "close-notice") setTimeout(() => button.closest(".notice")?.remove(), 0);
});

// A refused change comes back as a notice; htmx swaps it like any other answer.
document.addEventListener("htmx:beforeSwap", (event) => {
  if (event.detail.xhr.status >= 400) {
    event.detail.shouldSwap = true;
    event.detail.isError = false;
    document.getElementById("notices").replaceChildren();
  }
});

document.addEventListener("htmx:sendError", () => {
  const notices = document.getElementById("notices");
  const notice = document.createElement("div");
  notice.className = "notice";
  notice.innerHTML = '<p><b>The server does not answer.</b> Nothing was changed; try again when it is back.</p><button type="button" class="quiet" data-action="close-notice">✕</button>';
  notices.replaceChildren(notice);
});
