import type { Elsewhere } from "../../demo/elsewhere.ts"
import { channelsElsewhere, startElsewhere, stopElsewhere } from "../../demo/elsewhere.ts"
import { officeKeys, startOffice } from "../../demo/office.ts"
import { setTheScene } from "../../demo/play.ts"
import type { TelegramStandin } from "../standins/telegram/server.ts"
import { startModel } from "../standins/model/server.ts"
import { startTelegram } from "../standins/telegram/server.ts"
import { CommandFault } from "./context.ts"
import { endInOrder } from "./ending.ts"
import { colors, print } from "./output.ts"
import type { DemoPorts, StandinOptions } from "./standinPorts.ts"
import { demoPorts } from "./standinPorts.ts"

/** `wobbet standins`. */
export async function runStandins(options: StandinOptions): Promise<void> {
  const standin = await startStandin(Number(options.port))
  const cast = setTheScene(standin)
  const office = await startOffice(Number(options.officePort)).catch(() => undefined)
  const model = await startModel({ port: demoPorts().model, key: officeKeys.MODEL_KEY }).catch(() => undefined)
  const elsewhere = options.others ? await startOthers(options.service, demoPorts().elsewhere) : undefined
  print(
    `${colors.green("●")} Telegram stand-in at ${colors.bold(standin.address)} (set apiBase to it)`,
    `  bots: ${[...standin.world.bots.values()].map((bot) => `@${bot.username} token ${bot.token}`).join("\n        ")}`,
    `  a phone to play a person with: ${standin.address}/`,
    ...(model ? [`  model server at ${model.address}, key ${officeKeys.MODEL_KEY}`] : []),
    ...(office ? [`  harbour office at ${office.address}`] : []),
    `  people: ${Object.entries(cast.people)
      .map(([name, id]) => `${name} ${id}`)
      .join(", ")}`,
    ...(elsewhere ? othersInWords(elsewhere, options.service) : []),
  )
  endInOrder(async () => {
    await standin.stop()
    if (elsewhere) await stopElsewhere(elsewhere)
    await model?.stop()
    await office?.stop()
  })
}

/** What to do where a port is taken. */
export const beside = "Stop the other program, or run this demo beside it: npm run demo -- --port-base 5180."

export async function startStandin(port: number): Promise<TelegramStandin> {
  try {
    return await startTelegram({ port })
  } catch (error) {
    if ((error as { code?: string }).code !== "EADDRINUSE") throw error
    throw new CommandFault(`Port ${port}, which the Telegram stand-in needs, is taken.`, beside)
  }
}

export async function startOthers(service: string, ports: DemoPorts["elsewhere"]): Promise<Elsewhere> {
  try {
    return await startElsewhere(service, (kind) => ports[kind])
  } catch (error) {
    const { code, port } = error as { code?: string; port?: number }
    if (code !== "EADDRINUSE") throw error
    throw new CommandFault(`Port ${port}, which one of the stand-ins needs, is taken.`, beside)
  }
}

function othersInWords(elsewhere: Elsewhere, service: string): string[] {
  return channelsElsewhere(elsewhere, service).flatMap(({ kind, settings, secrets }) => [
    `${colors.green("●")} ${kind} stand-in at ${colors.bold(settings.apiBase)}`,
    `  settings: ${Object.entries(settings)
      .map(([name, value]) => `${name}=${value}`)
      .join(" ")}`,
    `  secrets: ${Object.entries(secrets)
      .map(([name, value]) => `${name}=${value}`)
      .join(" ")}`,
  ])
}
