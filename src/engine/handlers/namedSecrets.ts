import type { Bell } from "../../store/bell.ts"
import type { Database } from "../../store/database.ts"
import { sealedSecrets } from "../../store/secrets.ts"
import type { Seal } from "../seal.ts"
import { replaceSecrets } from "../seal.ts"
import { HandlerFault } from "./handler.ts"

/** Milliseconds for which a bot's secrets are kept at hand; a change is told at once where LISTEN gets through. */
const atHand = 2000

/** Values by their names. */
export interface Values {
  readonly [name: string]: string
}

/** The secrets of bots, opened where a turn's handler lists them. */
export class NamedSecrets {
  private readonly known = new Map<string, { at: number; values: Promise<Values> }>()

  constructor(private readonly parts: { database: Database; bell: Bell; seal: Seal }) {
    parts.bell.on("secrets", () => this.known.clear())
  }

  /** Throws a fault of the handler's where one is not set. */
  async listed(bot: string, lane: string, names: readonly string[]): Promise<Values> {
    const all = await this.all(bot, lane)
    const missing = names.find((name) => all[name] === undefined)
    if (missing !== undefined)
      throw new HandlerFault({
        name: "SecretFault",
        message: `the secret ${missing} is not set: wobbet secret set ${missing} --bot ${bot}`,
      })
    return Object.fromEntries(names.map((name) => [name, all[name]!]))
  }

  /** Of these names, those that are not set. */
  async missing(bot: string, lane: string, names: readonly string[]): Promise<string[]> {
    const all = await this.all(bot, lane)
    return names.filter((name) => all[name] === undefined)
  }

  private all(bot: string, lane: string): Promise<Values> {
    const key = `${bot} ${lane}`
    const kept = this.known.get(key)
    if (kept && performance.now() - kept.at < atHand) return kept.values
    const values = this.read(bot, lane)
    this.known.set(key, { at: performance.now(), values })
    values.catch(() => this.known.delete(key))
    return values
  }

  private async read(bot: string, lane: string): Promise<Values> {
    const found = await sealedSecrets(this.parts.database, bot, lane)
    return Object.fromEntries(found.map(({ name, sealed }) => [name, this.parts.seal.open(sealed)]))
  }
}

/** What stands in a secret's place. */
const maskOf = (name: string) => `[secret ${name}]`

/** The same value with every secret in its texts masked, in whatever encoding it stands there; and which were. */
export function masked<T>(value: T, secrets: Values, found: Set<string>): T {
  if (Object.keys(secrets).length === 0) return value
  try {
    return maskedIn(value, secrets, found) as T
  } catch (error) {
    if (!(error instanceof RangeError)) throw error
    throw new HandlerFault({ name: "ReplyFault", message: "what the handler gave is nested too deeply" })
  }
}

function maskedIn(value: unknown, secrets: Values, found: Set<string>): unknown {
  if (typeof value === "string") return maskedText(value, secrets, found)
  if (Array.isArray(value)) return value.map((one) => maskedIn(one, secrets, found))
  if (value === null || typeof value !== "object") return value
  return Object.fromEntries(
    Object.entries(value).map(([name, one]) => [
      maskedText(name, secrets, found, longestName),
      maskedIn(one, secrets, found),
    ]),
  )
}

/** A field's name is masked as well, unless it is so short that it may be a word of ours. */
const longestName = 16

function maskedText(text: string, secrets: Values, found: Set<string>, least = 0): string {
  return Object.entries(secrets).reduce((rest, [name, secret]) => {
    const next = secret.length < least ? rest : replaceSecrets(rest, [secret], () => maskOf(name))
    if (next !== rest) found.add(name)
    return next
  }, text)
}
