import { randomBytes } from "node:crypto"
import { chmodSync, chownSync, existsSync, readFileSync, statSync } from "node:fs"
import { join } from "node:path"
import type { Service, Standin } from "../support/harness.ts"
import { longTest } from "../support/killTable.ts"
import {
  endAll,
  eventually,
  freePort,
  freshDatabase,
  hostsOf,
  isRunning,
  pause,
  root,
  Stage,
  startProcess,
  startStandin,
  tempFolder,
} from "../support/harness.ts"

/** A file that a handler would leave behind, if it could. */
const trace = `/tmp/wobbet-hostile-${randomBytes(6).toString("hex")}`

/** A handler that tries everything it can think of, and tells what it reached. */
const spy = (home: string, port: number) => `
  import fs from "node:fs"
  import net from "node:net"
  import { execSync } from "node:child_process"
  import { Worker } from "node:worker_threads"

  const parent = process.ppid
  const tries: { [what: string]: () => unknown } = {
    "the token file": () => fs.readFileSync(${JSON.stringify(join(home, "token"))}, "utf8"),
    "the seal key": () => fs.readFileSync(${JSON.stringify(join(home, "seal-key"))}, "utf8"),
    "the home folder": () => fs.readdirSync(${JSON.stringify(home)}),
    "the service's environment": () => fs.readFileSync("/proc/" + parent + "/environ", "utf8"),
    "the service's memory": () => fs.readSync(fs.openSync("/proc/" + parent + "/mem", "r"), Buffer.alloc(1)),
    "its files under /proc": () => fs.readdirSync("/proc/" + parent + "/fd"),
    "a file of the machine": () => fs.readFileSync("/etc/passwd", "utf8"),
    "a new file": () => fs.writeFileSync(${JSON.stringify(trace)}, "x"),
    "its own bundle": () => fs.writeFileSync(process.argv[1]!, "x"),
    "another program": () => execSync("id", { encoding: "utf8" }),
    "a thread": () => new Worker("1", { eval: true }),
    "a native addon": () => (process as unknown as { dlopen(module: object, file: string): void }).dlopen({}, "/x.node"),
    "internal bindings": () => (process as unknown as { binding(name: string): object }).binding("fs"),
    "a debugger of the service": () => process.kill(parent, "SIGUSR1"),
    "a signal to the service": () => process.kill(parent, 0),
    "secrets in its environment": () => {
      const names = Object.keys(process.env).filter((name) => !/^(PATH|TZ|LANG|NODE_CHANNEL_\\w+)$/.test(name))
      if (names.length === 0) throw new Error("nothing there")
      return names
    },
  }
  const reach = (port: number) =>
    new Promise<string>((done) => {
      const socket = net.connect(port, "127.0.0.1", () => (socket.destroy(), done("reached")))
      socket.on("error", (error: { code?: string }) => done(String(error.code)))
    })

  export default async () => {
    const found: { [what: string]: string } = { "the user": String(process.getuid?.()) }
    for (const [what, attempt] of Object.entries(tries)) {
      try {
        attempt()
        found[what] = "reached"
      } catch (error) {
        found[what] = (error as { code?: string }).code ?? (error as Error).message
      }
    }
    found["the service's port"] = await reach(${port})
    found["a debugger's port"] = await reach(9229)
    return JSON.stringify(found)
  }
`

const bot = (home: string, port: number) => ({
  "bot.yaml": "bot: spy\nroutes:\n  - name: spy\n    when: { phrase: report }\n    handler: spy\n",
  "handlers/spy.ts": spy(home, port),
})

let standin: Standin

beforeAll(async () => {
  standin = await startStandin()
})
afterAll(endAll)

/** Another user cannot enter the folder of the server's sockets. */
function byTcp(database: string): string {
  const name = /\/(t_\w+)/.exec(database)![1]!
  return `${process.env.TEST_DATABASE_SERVER!.replace(/\/\/[^@]*@/, `//${process.env.TEST_DATABASE_ROLE!}@`)}/${name}`
}

/** Lets a service run under a user of its own, as somebody without root would have it. */
async function reportOf(user?: number): Promise<{ report: { [what: string]: string }; service: Service }> {
  const home = tempFolder()
  const port = await freePort()
  const folder = tempFolder(bot(home, port))
  if (user !== undefined) {
    chownSync(home, user, user)
    chmodSync(home, 0o700)
  }
  const service = await startProcess({
    bot: folder,
    home,
    port,
    database: byTcp(await freshDatabase()),
    // The key file is made, too.
    env: { WOBBET_SEAL_KEY: undefined },
    ...(user === undefined ? {} : { user }),
  })
  const stage = await Stage.set(service, standin)
  await stage.say("report")
  const [answer] = await stage.answered(1)
  return { report: JSON.parse(answer!.text!.replace(/&quot;/g, '"')) as { [what: string]: string }, service }
}

/** What no handler reaches, whoever runs the service. */
const closed = {
  "the token file": "ERR_ACCESS_DENIED",
  "the seal key": "ERR_ACCESS_DENIED",
  "the home folder": "ERR_ACCESS_DENIED",
  "the service's environment": "ERR_ACCESS_DENIED",
  "the service's memory": "ERR_ACCESS_DENIED",
  "its files under /proc": "ERR_ACCESS_DENIED",
  "a file of the machine": "ERR_ACCESS_DENIED",
  "a new file": "ERR_ACCESS_DENIED",
  "its own bundle": "ERR_ACCESS_DENIED",
  "another program": "ERR_ACCESS_DENIED",
  "a thread": "ERR_ACCESS_DENIED",
  "a native addon": "ERR_DLOPEN_DISABLED",
  "internal bindings": "ERR_ACCESS_DENIED",
  "secrets in its environment": "nothing there",
  "a debugger's port": "ECONNREFUSED",
}
const asRoot = process.getuid?.() === 0
/** Whether another user can come to where this was built. */
const isOpen = root
  .split("/")
  .every((_name, n, names) => (statSync(names.slice(0, n + 1).join("/") || "/").mode & 0o001) !== 0)

;(asRoot ? test : test.skip)(
  "as root: a hostile handler reaches no file, process, secret or signal",
  async () => {
    const { report, service } = await reportOf()
    expect(report).toEqual({
      ...closed,
      "the user": expect.stringMatching(/^6\d{4}$/) as unknown,
      "a signal to the service": "EPERM",
      "a debugger of the service": "EPERM",
      // It may ask the network, as every handler must: also what listens on this machine.
      "the service's port": "reached",
    })
    // PostgreSQL runs under another user than handlers do.
    const postgres = /^postgres:[^:]*:(\d+):/m.exec(readFileSync("/etc/passwd", "utf8"))?.[1]
    expect(report["the user"]).not.toBe(postgres)
    expect((await service.client.session()).name).toBe("local")
  },
  60_000,
)

;(!asRoot || isOpen ? test : test.skip)(
  "without root: it reaches no file, but signals to the service and the ports of the machine",
  async () => {
    const { report, service } = await reportOf(asRoot ? 65_534 : undefined)
    expect(report).toEqual({
      ...closed,
      "the user": String(asRoot ? 65_534 : process.getuid?.()),
      "a signal to the service": "reached",
      // It is sent, and the service does not open it.
      "a debugger of the service": "reached",
      "the service's port": "reached",
    })
    expect(service.said()).toContain("the debugger is not opened")
    expect((await service.client.session()).name).toBe("local")
    expect(existsSync(trace)).toBe(false)
  },
  60_000,
)

longTest(
  "a stuck handler's host ends with a service that is killed",
  async () => {
    const service = await startProcess({
      bot: tempFolder({
        "bot.yaml": "bot: stuck\nroutes:\n  - name: stuck\n    when: { phrase: hang }\n    handler: stuck\n",
        "handlers/stuck.ts": "export default () => { for (;;); }",
      }),
    })
    const stage = await Stage.set(service, standin)
    await stage.say("hang")
    const hosts = await eventually(async () => {
      const found = hostsOf(service)
      return found.length > 0 ? found : undefined
    }, "a host")
    await pause(1000)
    await service.stop("SIGKILL")
    await eventually(async () => hosts.every((pid) => !isRunning(pid)), "the hosts to end", 5)
  },
  60_000,
)
