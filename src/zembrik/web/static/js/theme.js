// Light or dark, before anything is drawn.
document.documentElement.dataset.theme = localStorage.getItem("zembrik-theme") || "dark";
