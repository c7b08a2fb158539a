// npm start, npm run demo: makes ready, then becomes the command, so that signals reach it.
import { setUp } from "./setup.mjs"

const [command, ...rest] = process.argv.slice(2)
try {
  await setUp()
} catch (error) {
  console.error(`✕ ${error.message}`)
  process.exit(1)
}
process.setSourceMapsEnabled(true)
process.argv.splice(2, process.argv.length, command, ...rest)
await import("../dist/wobbet.js")
