// Marks in the build for the tests: each source notes that something of it was executed, so that `npm test -- --changed`
// knows which tests a change concerns. Imports say nothing of that, since the tests drive one bundle of everything.
import ts from "typescript"

/** A source with a mark at the beginning of each of its functions, on the lines they stand on. */
export function marked(source, path) {
  const file = ts.createSourceFile(path, source, ts.ScriptTarget.ES2023)
  const inserts = []
  const walk = (node) => {
    if (ts.isFunctionLike(node) && node.body) {
      if (ts.isBlock(node.body)) inserts.push([node.body.getStart(file) + 1, " $ran[0] = 1;"])
      else inserts.push([node.body.getStart(file), "($ran[0] = 1, "], [node.body.getEnd(), ")"])
    }
    ts.forEachChild(node, walk)
  }
  walk(file)
  if (inserts.length === 0) return source
  let text = ""
  let at = 0
  for (const [place, words] of inserts.sort(([a], [b]) => a - b)) {
    text += source.slice(at, place) + words
    at = place
  }
  const mark = `const $ran = (globalThis.$executed ??= { of: () => [0] }).of(${JSON.stringify(path)}); `
  return mark + text + source.slice(at)
}

/** Whether a source has functions, and so tells by itself that it was executed. */
export function tells(source, path) {
  return marked(source, path) !== source
}

/**
 * Before everything else in a process that the tests started: notes what is executed in a file of its own, every now and
 * then, since such a process may be killed.
 */
export const executedBanner = `
if (globalThis.$executed === undefined) {
  const sources = new Map();
  globalThis.$executed = { of: (path) => { const ran = new Uint8Array(1); sources.set(path, ran); return ran; } };
  if (process.env.WOBBET_EXECUTED) {
    const { appendFileSync } = process.getBuiltinModule("node:fs");
    const note = () => {
      const found = [...sources].filter(([, ran]) => ran[0] === 1).map(([path]) => path);
      if (found.length === 0) return;
      for (const path of found) sources.delete(path);
      try { appendFileSync(process.env.WOBBET_EXECUTED, found.join("\\n") + "\\n"); } catch {}
    };
    setInterval(note, 500).unref();
    process.on("exit", note);
  }
}`
