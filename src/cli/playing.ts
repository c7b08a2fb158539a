import { randomBytes } from "node:crypto"
import { fileURLToPath } from "node:url"
import type { Elsewhere } from "../../demo/elsewhere.ts"
import { channelsElsewhere, enterAddresses, playElsewhere, sendRewritten, stopElsewhere } from "../../demo/elsewhere.ts"
import { startOffice } from "../../demo/office.ts"
import type { Cast } from "../../demo/play.ts"
import { dayByTheQuay, morning, play, setTheScene } from "../../demo/play.ts"
import { Client } from "../client/client.ts"
import type { RunningService } from "../service/service.ts"
import { keepSession } from "../store/access.ts"
import { CommandFault } from "./context.ts"
import { endInOrder } from "./ending.ts"
import { colors, print } from "./output.ts"
import { begin } from "./running.ts"
import { officePort, standinPort } from "./standinPorts.ts"
import { startOthers, startStandin } from "./standins.ts"

/** `wobbet demo`. */
export async function runDemo(quiet: boolean): Promise<void> {
  const standin = await startStandin(standinPort)
  const cast = setTheScene(standin)
  const office = await startOffice(officePort).catch((error: { code?: string }) => {
    throw error.code === "EADDRINUSE"
      ? new CommandFault(
          `Port ${officePort}, which the demo's harbour office needs, is taken.`,
          "Stop the other program; perhaps it is a demo started before.",
        )
      : error
  })
  const starting = begin({
    botFolder: fileURLToPath(new URL("../demo/ferry", import.meta.url)),
    databaseName: "wobbet_demo",
  })
  let stopped = false
  const others: { elsewhere?: Elsewhere } = {}
  const stopOthers = async () => {
    stopped = true
    await office.stop()
    await standin.stop()
    if (others.elsewhere) await stopElsewhere(others.elsewhere)
  }
  endInOrder(async () => {
    stopped = true
    await (await starting).stop()
    await stopOthers()
  })
  const service = await starting.catch(async (error: unknown) => {
    await stopOthers()
    throw error
  })
  const client = new Client(service.address, service.token)
  await connectQuay(client, standin.address, cast)
  const elsewhere = (others.elsewhere = await startOthers(service.address))
  await connectElsewhere(client, elsewhere, service.address)
  const played = (await client.messages({ channel: "quay-telegram", limit: 1 })).items.length > 0
  const signIn = await oneTimeSignIn(service)

  print(
    "",
    `  ${colors.bold(signIn)}`,
    "",
    `  opens the console, once${played ? "; the conversations of the last start are still there" : ", while the morning's first passengers write"}.`,
    `  Phones to write from yourself: Telegram ${standin.address}/`,
    ...Object.entries(elsewhere).map(([name, { address }]) => `    ${name} ${address as string}/`),
    `  Terminal: bin/wobbet tail, bin/wobbet message find crossing`,
    `  A spare bot to connect: bin/wobbet channel add telegram second --set apiBase=${standin.address} --secret token=${cast.spare.token}`,
    "  Ctrl-C stops everything and keeps the data.",
    "",
  )
  if (!played) {
    const beside = playElsewhere(elsewhere, { stopped: () => stopped })
    await play(standin.address, cast, morning, { pause: 250, stopped: () => stopped, act: progress(morning.length) })
    await beside
    await forge(service.address)
    await sendRewritten(service.address)
    print("  The morning is over: answered, unrouted, parked and refused are all there to look at.", "")
  }
  if (quiet) return
  // Bounded: a demo left running over night does not fill the disk.
  for (let round = 0; round < 50 && !stopped; round++) {
    await play(standin.address, cast, dayByTheQuay, { pause: 15_000, stopped: () => stopped })
  }
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
