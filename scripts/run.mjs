// npm start, npm run demo: makes ready, then becomes the command, so that signals reach it.
import { createServer } from "node:net"
import { setUp } from "./setup.mjs"

const [command, ...rest] = process.argv.slice(2)
try {
  await portsAreFree()
  await setUp()
} catch (error) {
  console.error(`✕ ${error.message}`)
  process.exit(1)
}
/** Before anything is installed: the service's port, and those of the demo's stand-ins, which stand 110 above it. */
async function portsAreFree() {
  const named = rest.indexOf("--port-base")
  const base = Number(
    (named >= 0 ? rest[named + 1] : rest.find((one) => one.startsWith("--port-base="))?.slice(12)) ?? 4180,
  )
  if (!(base >= 1024 && base <= 65_000)) return
  const service = Number(process.env.WOBBET_PORT ?? base)
  const standins = command === "demo" ? Array.from({ length: 9 }, (_none, at) => base + 110 + at) : []
  for (const port of [service, ...standins]) {
    // What is no port at all is told by the service.
    if (!(port >= 0 && port <= 65_535) || (await isFree(port))) continue
    const beside =
      command === "demo"
        ? "A demo may be running already. Stop what listens there, or run this one beside it: npm run demo -- --port-base 5180"
        : "Stop what listens there, or choose another with WOBBET_PORT."
    throw new Error(`Port ${port} is taken.\n  ${beside}`)
  }
}

function isFree(port) {
  return new Promise((resolve) => {
    const probe = createServer()
    probe.once("error", (error) => resolve(error.code !== "EADDRINUSE"))
    probe.listen(port, process.env.WOBBET_HOST ?? "127.0.0.1", () => probe.close(() => resolve(true)))
  })
}

process.setSourceMapsEnabled(true)
process.argv.splice(2, process.argv.length, command, ...rest)
await import("../dist/wobbet.js")
