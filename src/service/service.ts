import { createServer } from "node:net"
import type { AddressInfo } from "node:net"
import type { Logger } from "pino"
import { Engine } from "../engine/engine.ts"
import type { HostLimits } from "../engine/handlers/hostProcess.ts"
import { keepLocalToken } from "../store/access.ts"
import { databaseFault, migrate, openDatabase, TooNew } from "../store/database.ts"
import type { EmbeddedServer } from "../store/embedded.ts"
import { ServerTrouble, startEmbedded } from "../store/embedded.ts"
import { buildApp } from "./app.ts"
import type { ServiceSettings } from "./settings.ts"
import { localToken, sealKey, SettingFault } from "./settings.ts"

/** Files that the build made and the service needs. */
export interface BuiltFiles {
  hostScript: string
  sideScript: string
  sdk: string
  console: string
}

export interface RunningService {
  engine: Engine
  address: string
  token: string
  stop(): Promise<void>
}

/**
 * Starts the service: its database server if none is given, the tables, the engine, the network.
 * Throws SettingFault or ServerTrouble, whose messages say what to do, with nothing left running.
 */
export async function startService(
  settings: ServiceSettings,
  options: {
    files: BuiltFiles
    log: Logger
    botFolder?: string
    databaseName?: string
    hostLimits?: Partial<HostLimits>
  },
): Promise<RunningService> {
  const { log } = options
  await portIsFree(settings.host, settings.port)
  const token = localToken(settings.home)
  const key = sealKey(settings)
  let server: EmbeddedServer | undefined
  let engine: Engine | undefined
  try {
    if (settings.databaseUrl === undefined) server = await startEmbedded(settings.home)
    const databaseUrl = settings.databaseUrl ?? (await server!.database(options.databaseName ?? "wobbet"))
    await prepareOnceUp(databaseUrl, token, log)
    engine = new Engine({
      databaseUrl,
      home: settings.home,
      sealKey: key,
      roles: settings.roles,
      hostScript: options.files.hostScript,
      sideScript: options.files.sideScript,
      sdk: options.files.sdk,
      botRoots: settings.botRoots,
      log,
      leastDisk: settings.leastDisk * 1e6,
      networks: settings.networks,
      ...(options.botFolder ? { botFolder: options.botFolder } : {}),
      ...(options.hostLimits ? { hostLimits: options.hostLimits } : {}),
    })
    const app = await buildApp(engine, {
      consoleFiles: options.files.console,
      proxies: settings.proxies,
      connections: settings.connections,
    })
    engine.publicUrl = settings.publicUrl ?? `http://${settings.host}:${settings.port}`
    await engine.start().catch((error: Error) => {
      if (/unable to authenticate|Unsupported state/i.test(error.message)) {
        throw new SettingFault(
          "The channels' secrets were sealed with another key than this one. Set WOBBET_SEAL_KEY, or bring back the file seal-key.",
        )
      }
      throw error
    })
    await app.listen({ host: settings.host, port: settings.port })
    const { port } = app.server.address() as AddressInfo
    const address = `http://${settings.host === "0.0.0.0" ? "127.0.0.1" : settings.host}:${port}`
    engine.publicUrl = settings.publicUrl ?? address
    const running = engine
    return {
      engine,
      address,
      token,
      async stop() {
        // Connections that only become idle after the close began, such as those of live streams, are closed then, not
        // when their keep-alive of a minute is over; one that never becomes idle is cut.
        const idle = setInterval(() => app.server.closeIdleConnections(), 100)
        const cut = setTimeout(() => app.server.closeAllConnections(), 10_000)
        await app.close()
        clearInterval(idle)
        clearTimeout(cut)
        await running.stop()
        await server?.stop()
      },
    }
  } catch (error) {
    await engine?.stop(0).catch(() => undefined)
    await server?.stop()
    if (databaseFault(error) === "away")
      throw new ServerTrouble(
        `The database went away while the service was starting: ${(error as Error).message}. Start it again once the database is up.`,
      )
    throw error
  }
}

/** A database server that is only just starting, or on its way down to be started again, is waited for. */
async function prepareOnceUp(databaseUrl: string, token: string, log: Logger): Promise<void> {
  for (const end = Date.now() + 30_000; ;) {
    try {
      return await prepare(databaseUrl, token)
    } catch (error) {
      const { code, message } = error as { code?: string; message: string }
      if (!/^57P0[123]$/.test(code ?? "") || Date.now() > end) throw error
      log.warn(`the database is not ready (${message}); waiting for it`)
      await new Promise((resolve) => setTimeout(resolve, 500))
    }
  }
}

async function prepare(databaseUrl: string, token: string): Promise<void> {
  const database = openDatabase(databaseUrl, { most: 2 })
  try {
    await migrate(databaseUrl, database, new Date())
    await keepLocalToken(database, token)
  } catch (error) {
    if (error instanceof TooNew)
      throw new ServerTrouble(
        `${error.message} Start version ${error.needed} or a later one, or restore a backup that was made before the upgrade. Nothing was changed.`,
      )
    const { code, message } = error as { code?: string; message: string }
    if (code === "ECONNREFUSED" || code === "ENOTFOUND" || code === "28P01" || code === "3D000") {
      throw new ServerTrouble(
        `The database at DATABASE_URL cannot be reached: ${withoutPassword(message)}. Is the server up, and are name and password right?`,
      )
    }
    throw error
  } finally {
    await database.destroy()
  }
}

/** Looked at before anything else is started, so that a second start by mistake changes nothing. */
async function portIsFree(host: string, port: number): Promise<void> {
  await new Promise<void>((resolve, reject) => {
    const probe = createServer()
    probe.once("error", (error: { code?: string; message: string }) => {
      if (error.code === "EADDRINUSE")
        reject(
          new SettingFault(
            `Port ${port} is taken by another program (perhaps Wobbet itself, started before). Stop it, or choose another port: WOBBET_PORT=${port + 1}.`,
          ),
        )
      else
        reject(
          new SettingFault(
            `Wobbet cannot listen on ${host}:${port}: ${error.message}. Set WOBBET_HOST and WOBBET_PORT.`,
          ),
        )
    })
    probe.listen(port, host, () => probe.close(() => resolve()))
  })
}

/** Words about a database, without the name and the password in its address. */
function withoutPassword(words: string): string {
  const [from, to] = [words.indexOf("//"), words.lastIndexOf("@")]
  return from === -1 || to < from ? words : `${words.slice(0, from)}//…${words.slice(to)}`
}
