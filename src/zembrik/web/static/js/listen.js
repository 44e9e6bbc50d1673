// The server tells what changed; while the page is hidden nothing is listened to, as a browser has few connections.
// `told` gets the name and the data of each event; `again` is called whenever something may have been missed.
export function listen(shot, told, again) {
  let source = null;
  const open = () => {
    source = new EventSource(`/events?shot=${shot}`);
    source.onopen = again;
    for (const name of ["status", "errand", "work"]) source.addEventListener(name, (event) => told(name, JSON.parse(event.data)));
  };
  document.addEventListener("visibilitychange", () => {
    if (document.hidden) { source?.close(); source = null; } else if (!source) open();
  });
  addEventListener("pagehide", () => source?.close());
  if (!document.hidden) open();
}
