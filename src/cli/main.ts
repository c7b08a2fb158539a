import { loadProgram } from "./loading.ts"

// A reader that has seen enough, such as head, is no fault.
process.stdout.on("error", (error: { code?: string }) => {
  if (error.code === "EPIPE") process.exit(0)
  throw error
})

const { carryOut } = loadProgram()
// Whatever it had begun must not keep a command that has failed.
if (!(await carryOut(process.argv))) setTimeout(() => process.exit(), 3000).unref()
