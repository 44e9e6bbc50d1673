// Reads what web/streams/pack.py writes: a JSON head and arrays.
export function unpack(bytes) {
  const length = new DataView(bytes).getUint32(0, true);
  const head = JSON.parse(new TextDecoder().decode(new Uint8Array(bytes, 4, length)));
  const base = 4 + length;
  return {
    head,
    floats: ([offset, count]) => new Float32Array(bytes, base + offset, count),
    whole: ([offset, count]) => new Uint32Array(bytes, base + offset, count),
  };
}

export async function fetchPack(url) {
  const answer = await fetch(url);
  if (!answer.ok) throw new Error(`${url}: ${answer.status}`);
  return unpack(await answer.arrayBuffer());
}
