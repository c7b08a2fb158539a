import { AsyncLocalStorage } from "node:async_hooks"
import { Readable } from "node:stream"

/** What a command sees of its process while it runs inside the tests': its own words, environment and streams. */
interface OwnProcess {
  argv: string[]
  env: NodeJS.ProcessEnv
  stdin: Readable
  stdout: { write: (text: string) => boolean; isTTY: false }
  stderr: { write: (text: string) => boolean; isTTY: false }
  exitCode: number | undefined
  exit: (code?: number) => void
}

const runs = new AsyncLocalStorage<OwnProcess>()

/** Stands for Node's `process` in the command line's sources, in the build for the tests. */
export const process = new Proxy(globalThis.process, {
  get(real, name) {
    const run = runs.getStore()
    if (run && name in run) return run[name as keyof OwnProcess]
    const value: unknown = Reflect.get(real, name)
    return typeof value === "function" ? (value.bind(real) as unknown) : value
  },
  set(real, name, value) {
    const run = runs.getStore()
    return Reflect.set(run && name in run ? run : real, name, value)
  },
})

/** Runs a command in this process, as if it had one of its own. */
export async function inOwnProcess(
  argv: string[],
  env: NodeJS.ProcessEnv,
  command: () => Promise<unknown>,
): Promise<{ code: number; out: string; err: string }> {
  let out = ""
  let err = ""
  let exit = (_code?: number) => {}
  const exited = new Promise<number | undefined>((done) => (exit = done))
  const run: OwnProcess = {
    argv,
    env,
    stdin: Readable.from([]),
    stdout: { write: (text) => ((out += text), true), isTTY: false },
    stderr: { write: (text) => ((err += text), true), isTTY: false },
    exitCode: undefined,
    exit,
  }
  await runs.run(run, () => Promise.race([command(), exited.then((code) => (run.exitCode = code))]))
  return { code: run.exitCode ?? 0, out, err }
}
