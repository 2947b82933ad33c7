// An answer that comes in parts, one JSON object a line: what is saved first, what follows from it when it is computed.

/** A reader of the parts of an answer: `next()` gives the next one, null after the last; `drop()` lets the rest go. */
export function parts(answer) {
  if (!answer.headers.get("Content-Type")?.startsWith("application/x-ndjson")) {
    let whole = answer.json();
    return { next: async () => { const said = await whole; whole = null; return said; }, drop: () => {} };
  }
  const reader = answer.body.getReader();
  const decoder = new TextDecoder();
  let text = "";
  let ended = false;
  const next = async () => {
    while (!text.includes("\n") && !ended) {
      const { value, done } = await reader.read();
      ended = done;
      text += done ? decoder.decode() : decoder.decode(value, { stream: true });
    }
    const end = text.indexOf("\n");
    if (end < 0) return null;
    const line = text.slice(0, end);
    text = text.slice(end + 1);
    return JSON.parse(line);
  };
  return { next, drop: () => reader.cancel().catch(() => {}) };
}
