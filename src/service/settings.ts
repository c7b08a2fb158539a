import { randomBytes } from "node:crypto"
import { existsSync, mkdirSync, readFileSync, writeFileSync } from "node:fs"
import { delimiter, join, resolve } from "node:path"
import ipaddr from "ipaddr.js"
import type { RoleName } from "../engine/engine.ts"

/** What the service is told by its environment. */
export interface ServiceSettings {
  host: string
  port: number
  home: string
  /** The key that seals secrets, in hexadecimal digits; undefined where it is kept in the home. */
  sealKey: string | undefined
  publicUrl: string | undefined
  databaseUrl: string | undefined
  roles: ReadonlySet<RoleName>
  /** Proxies in front of the service, whose X-Forwarded-For is believed: addresses, or networks in CIDR notation. */
  proxies: string[]
  /** Private networks that endpoints of bots may lie in: addresses, or networks in CIDR notation. */
  networks: string[]
  /** Folders outside a bot's own that its code may be taken from, such as that of a workspace. */
  botRoots: string[]
  /** Connections open at once, at most. */
  connections: number
  /** Megabytes of disk below which no media are fetched any more. */
  leastDisk: number
}

const allRoles: RoleName[] = ["inlet", "turns", "sender", "poller", "api", "console"]

/** A setting that cannot be meant: what it is, and what would be right. */
export class SettingFault extends Error {}

export function readServiceSettings(env: NodeJS.ProcessEnv): ServiceSettings {
  const port = Number(env.WOBBET_PORT ?? 4180)
  if (!Number.isInteger(port) || port < 0 || port > 65_535)
    throw new SettingFault(`WOBBET_PORT is "${env.WOBBET_PORT}"; it takes a number from 1 to 65535.`)
  const named = (env.WOBBET_ROLES ?? allRoles.join(",")).split(",").map((role) => role.trim())
  const wrong = named.find((role) => !(allRoles as string[]).includes(role))
  if (wrong !== undefined)
    throw new SettingFault(
      `WOBBET_ROLES names "${wrong}"; it takes some of ${allRoles.join(", ")}, with commas between.`,
    )
  if (env.WOBBET_PUBLIC_URL && !URL.canParse(env.WOBBET_PUBLIC_URL)) {
    throw new SettingFault(
      `WOBBET_PUBLIC_URL is "${env.WOBBET_PUBLIC_URL}"; it takes a full address such as https://bots.example.org.`,
    )
  }
  return {
    host: env.WOBBET_HOST ?? "127.0.0.1",
    port,
    home: homeFolder(env),
    sealKey: env.WOBBET_SEAL_KEY,
    publicUrl: env.WOBBET_PUBLIC_URL,
    databaseUrl: env.DATABASE_URL,
    roles: new Set(named as RoleName[]),
    proxies: networksOf(env, "WOBBET_PROXIES"),
    networks: networksOf(env, "WOBBET_PRIVATE_NETWORKS"),
    botRoots: botRoots(env),
    connections: wholeNumber(env, "WOBBET_CONNECTIONS", 2000),
    leastDisk: wholeNumber(env, "WOBBET_LEAST_DISK", 200),
  }
}

function networksOf(env: NodeJS.ProcessEnv, name: string): string[] {
  const networks = (env[name] ?? "").split(",").map((one) => one.trim())
  const named = networks.filter((one) => one !== "")
  const wrong = named.find((one) => !ipaddr.isValid(one) && !ipaddr.isValidCIDR(one))
  if (wrong !== undefined)
    throw new SettingFault(
      `${name} names "${wrong}"; it takes addresses such as 10.0.0.5, or networks such as 10.0.0.0/8, with commas between.`,
    )
  return named
}

function wholeNumber(env: NodeJS.ProcessEnv, name: string, usual: number): number {
  const value = Number(env[name] ?? usual)
  if (!Number.isInteger(value) || value < 1)
    throw new SettingFault(`${name} is "${env[name]}"; it takes a whole number, such as ${usual}.`)
  return value
}

/** `WOBBET_BOT_ROOTS`: folders, separated as those of PATH are. */
export function botRoots(env: NodeJS.ProcessEnv): string[] {
  const named = (env.WOBBET_BOT_ROOTS ?? "").split(delimiter).filter((one) => one.trim() !== "")
  const missing = named.find((one) => !existsSync(one))
  if (missing !== undefined)
    throw new SettingFault(
      `WOBBET_BOT_ROOTS names "${missing}", which is not there; it takes folders, with ${delimiter} between.`,
    )
  return named.map((one) => resolve(one))
}

export function homeFolder(env: NodeJS.ProcessEnv): string {
  return resolve(env.WOBBET_HOME ?? ".wobbet")
}

/** The key that seals secrets: given, or made at first start and kept in a file only its owner can read. */
export function sealKey({ home, sealKey }: ServiceSettings): Buffer {
  const given = sealKey ?? keptIn(join(home, "seal-key"), () => randomBytes(32).toString("hex"))
  const key = Buffer.from(given.trim(), "hex")
  if (key.length !== 32)
    throw new SettingFault(
      "The seal key (WOBBET_SEAL_KEY, or the file seal-key in WOBBET_HOME) must be 64 hexadecimal digits.",
    )
  return key
}

/** The token the local command line signs in with. */
export function localToken(home: string): string {
  return keptIn(join(home, "token"), () => `wob_${randomBytes(30).toString("base64url")}`).trim()
}

function keptIn(file: string, make: () => string): string {
  if (existsSync(file)) return readFileSync(file, "utf8")
  // As root, the users of the database and of the handlers pass through it.
  mkdirSync(join(file, ".."), { recursive: true, mode: process.getuid?.() === 0 ? 0o711 : 0o700 })
  try {
    // Exclusive: of two processes starting at once, the second reads what the first made.
    writeFileSync(file, `${make()}\n`, { mode: 0o600, flag: "wx" })
  } catch (error) {
    if ((error as { code?: string }).code !== "EEXIST") throw error
  }
  return readFileSync(file, "utf8")
}
