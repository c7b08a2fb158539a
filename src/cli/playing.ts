import type { ChildProcess } from "node:child_process"
import { spawn } from "node:child_process"
import { randomBytes } from "node:crypto"
import { cpSync, readFileSync, writeFileSync } from "node:fs"
import { join, resolve } from "node:path"
import { setTimeout as pause } from "node:timers/promises"
import { fileURLToPath } from "node:url"
import type { Elsewhere } from "../../demo/elsewhere.ts"
import {
  channelsElsewhere,
  enterAddresses,
  playElsewhere,
  sendRewritten,
  stopElsewhere,
  takeClaim,
} from "../../demo/elsewhere.ts"
import { emailOf, officeKeys, startOffice } from "../../demo/office.ts"
import type { Cast } from "../../demo/play.ts"
import { dayByTheQuay, morning, play, setTheScene } from "../../demo/play.ts"
import { Client } from "../client/client.ts"
import { startModel } from "../standins/model/server.ts"
import type { RunningService } from "../service/service.ts"
import { keepSession } from "../store/access.ts"
import { CommandFault } from "./context.ts"
import { endInOrder } from "./ending.ts"
import { colors, print } from "./output.ts"
import { begin } from "./running.ts"
import type { DemoPorts } from "./standinPorts.ts"
import { demoPorts, usualBase } from "./standinPorts.ts"
import { beside, startOthers, startStandin } from "./standins.ts"

/**
 * `wobbet demo`. At another place than the usual it is a demo of its own, with its own data: what one does is not seen in
 * the other.
 */
export async function runDemo({ quiet, base }: { quiet: boolean; base: number }): Promise<void> {
  const ports = demoPorts(base)
  process.env.WOBBET_PORT ??= String(base)
  // The harbour office that the bot asks is on this machine.
  process.env.WOBBET_PRIVATE_NETWORKS ??= "127.0.0.1"
  if (base !== usualBase) process.env.WOBBET_HOME ??= `.wobbet-${base}`
  const running: (() => Promise<unknown>)[] = []
  let stopped = false
  const stopAll = async () => {
    stopped = true
    for (const stop of running.splice(0).reverse()) await stop()
  }
  endInOrder(stopAll)
  try {
    await demo({ quiet, ports, running, stopped: () => stopped })
  } catch (error) {
    // What was begun is ended, too: a demo that could not be started leaves nothing running.
    await stopAll()
    throw error
  }
}

interface Demo {
  quiet: boolean
  ports: DemoPorts
  /** What was started, and how it ends. */
  running: (() => Promise<unknown>)[]
  stopped: () => boolean
}

async function demo({ quiet, ports, running, stopped }: Demo): Promise<void> {
  const standin = await startStandin(ports.telegram)
  running.push(() => standin.stop())
  const cast = setTheScene(standin)
  const office = await startOffice(ports.office).catch((error: { code?: string }) => {
    throw error.code === "EADDRINUSE"
      ? new CommandFault(`Port ${ports.office}, which the demo's harbour office needs, is taken.`, beside)
      : error
  })
  running.push(() => office.stop())
  const model = await startModel({ port: ports.model, key: officeKeys.MODEL_KEY }).catch((error: { code?: string }) => {
    throw error.code === "EADDRINUSE"
      ? new CommandFault(`Port ${ports.model}, which the demo's model server needs, is taken.`, beside)
      : error
  })
  Object.assign(model.pace, { first: 700, word: 60 })
  running.push(() => model.stop())
  const starting = begin({ botFolder: ferryFor(ports), databaseName: "wobbet_demo" })
  running.push(async () => (await starting).stop())
  const service = await starting.catch((error: unknown) => {
    running.pop()
    throw error
  })
  const client = new Client(service.address, service.token)
  office.tells = `${service.address}/in/tern-point-ferry/office`
  await giveKeys(client)
  await connectQuay(client, standin.address, cast)
  const elsewhere = await startOthers(service.address, ports.elsewhere)
  running.push(() => stopElsewhere(elsewhere))
  await connectElsewhere(client, elsewhere, service.address)
  const desk = await startBaggageDesk(client, service.address)
  running.push(async () => desk?.kill())
  const played = (await client.messages({ channel: "quay-telegram", limit: 1 })).items.length > 0
  const signIn = await oneTimeSignIn(service)
  const { WOBBET_HOME: home, WOBBET_PORT: port } = process.env
  const where = ports.service === usualBase ? "" : `WOBBET_PORT=${port} WOBBET_HOME=${home} `
  const wobbet = `${where}bin/wobbet `

  print(
    "",
    `  ${colors.bold(signIn)}`,
    "",
    `  opens the console, once${played ? "; the conversations of the last start are still there" : ", while the morning's first passengers write"}.`,
    `  Phones to write from yourself: Telegram ${standin.address}/`,
    ...Object.entries(elsewhere).map(([name, { address }]) => `    ${name} ${address as string}/`),
    `  Terminal: ${wobbet}tail, ${wobbet}message find crossing`,
    `  A spare bot to connect: ${wobbet}channel add telegram second --set apiBase=${standin.address} --secret token=${cast.spare.token}`,
    "  Ctrl-C stops everything and keeps the data.",
    "",
  )
  if (!played) {
    const beside = playElsewhere(elsewhere, { stopped })
    await play(standin.address, cast, morning, { pause: 250, stopped, act: progress(morning.length) })
    await beside
    await tellApart(client)
    await takeClaim(elsewhere, 1)
    await forge(service.address)
    await sendRewritten(service.address)
    print("  The morning is over: answered, unrouted, parked and refused are all there to look at.", "")
  }
  if (quiet) return
  // Bounded: a demo left running over night does not fill the disk.
  for (let round = 0; round < 50 && !stopped(); round++) {
    await play(standin.address, cast, dayByTheQuay, { pause: 15_000, stopped })
  }
}

/** What the office knows of people besides their names: by that its notices find them. */
async function tellApart(client: Client): Promise<void> {
  const { items } = await client.people({ limit: 100 })
  for (const { contact, name } of items)
    if (contact && name && !/^\W/.test(name))
      await client.markPerson(contact, {
        fields: { email: emailOf(name) },
        ...(/^Tom\b/.test(name) ? { addTags: ["crew"] } : {}),
      })
}

/** The office's keys, by name. The bot is taken once it has them. */
async function giveKeys(client: Client): Promise<void> {
  for (const [name, value] of Object.entries(officeKeys))
    await client.setSecret(name, { value, bot: "tern-point-ferry" })
  for (const end = Date.now() + 10_000; Date.now() < end;) {
    if ((await client.bot()).release !== undefined) return
    await pause(100)
  }
}

/** The baggage desk's own program, which fetches what was lost off its queue; undefined where there is no Python. */
async function startBaggageDesk(client: Client, address: string): Promise<ChildProcess | undefined> {
  const name = "baggage desk"
  if ((await client.tokens()).items.some((token) => token.name === name)) await client.revokeToken(name)
  const { token } = await client.makeWorkerToken(name, "baggage")
  const program = fileURLToPath(new URL("../demo/baggage.py", import.meta.url))
  const { PATH } = process.env
  const child = spawn("python3", [program], {
    env: { ...(PATH ? { PATH } : {}), WOBBET_URL: address, WOBBET_TOKEN: token },
    stdio: "ignore",
  })
  return new Promise((done) => {
    child.once("spawn", () => done(child))
    child.once("error", () => {
      print(
        '  There is no python3 here: nobody works at the baggage desk. "wobbet queue lease baggage" does it by hand.',
      )
      done(undefined)
    })
  })
}

/** The ferry's folder; for another harbour office a copy that asks that one. */
function ferryFor(ports: DemoPorts): string {
  const folder = fileURLToPath(new URL("../demo/ferry", import.meta.url))
  if (ports.service === usualBase) return folder
  const own = join(resolve(process.env.WOBBET_HOME ?? ".wobbet"), "ferry")
  cpSync(folder, own, { recursive: true })
  const office = join(own, "office.ts")
  for (const file of [office, join(own, "bot.yaml")]) {
    const written = readFileSync(file, "utf8")
      .replace(String(demoPorts().office), String(ports.office))
      .replace(String(demoPorts().model), String(ports.model))
    writeFileSync(file, written)
  }
  return own
}

/** The other channels, in the same way. What only a person can enter at a provider, the stand-in is told. */
async function connectElsewhere(client: Client, elsewhere: Elsewhere, service: string): Promise<void> {
  const known = new Set((await client.channels()).items.map((channel) => channel.key))
  const channels = channelsElsewhere(elsewhere, service)
  for (const channel of channels) if (!known.has(channel.key)) await client.addChannel(channel)
  await enterAddresses(elsewhere, service)
  for (const channel of channels) await client.connectChannel(channel.key)
}

/** The channel of the demo: added at the first start, connected at each, since the stand-in forgets. */
async function connectQuay(client: Client, apiBase: string, cast: Cast): Promise<void> {
  const { items } = await client.channels()
  if (!items.some((channel) => channel.key === "quay-telegram")) {
    await client.addChannel({
      kind: "telegram",
      key: "quay-telegram",
      settings: { apiBase, answerWithin: "1h" },
      secrets: { token: cast.bot.token },
    })
  }
  await client.connectChannel("quay-telegram")
}

/** Somebody who knows the address but not the secret. */
async function forge(address: string): Promise<void> {
  const body = {
    update_id: 1,
    message: {
      message_id: 1,
      date: 1,
      chat: { id: 1, type: "private" },
      from: { id: 1, is_bot: false, first_name: "Nobody" },
      text: "next crossing",
    },
  }
  await fetch(`${address}/in/quay-telegram`, {
    method: "POST",
    headers: { "content-type": "application/json", "x-telegram-bot-api-secret-token": "guessed" },
    body: JSON.stringify(body),
  })
}

async function oneTimeSignIn(service: RunningService): Promise<string> {
  const secret = randomBytes(24).toString("base64url")
  await keepSession(service.engine.database, {
    secret,
    kind: "once",
    visitor: { name: "demo", role: "owner" },
    seconds: 3600,
  })
  return `${service.address}/signin?once=${secret}`
}

function progress(total: number): (at: number) => void {
  if (!process.stdout.isTTY) return () => undefined
  return (at) => {
    const full = Math.round((at / total) * 30)
    process.stdout.write(`\r  ${"━".repeat(full)}${" ".repeat(30 - full)} ${at}/${total}${at === total ? "\n" : ""}`)
  }
}
