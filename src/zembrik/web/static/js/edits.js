// Edits that no form sends. One waits for the other and none is dropped: htmx keeps only the last of what it is asked for
// from one element while a request is under way, and an edit must rest on the revision that the one before it made.
let last = Promise.resolve(), waiting = 0;

export const editing = () => waiting > 0;

// `values` is called when it is sent. Resolves when the panel shows what came of it.
export function send(url, values = () => ({})) {
  waiting++;
  const now = () => htmx.ajax("POST", url, { source: "#curves", target: "#panel", values: values() });
  last = last.then(now, now).finally(() => { waiting--; });
  return last;
}
