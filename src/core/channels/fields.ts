import type Joi from "joi"
import type { Profile } from "../gateway/profile.ts"
import type { ChannelKind } from "./kind.ts"
import { isCommonSetting, settingsSchema } from "./settings.ts"

/** One setting or secret, as a form needs it to ask for it. */
export interface FieldHelp {
  name: string
  /** What it means, in words. */
  says: string
  required: boolean
  /** What it may be, where it is one of a few. */
  options?: string[]
  default?: string | number | boolean
  /** Whether every kind of channel has it, and most do without. */
  common: boolean
}

/** What Joi's `describe()` tells of one value; it has no type of its own. */
interface Described {
  keys?: { [name: string]: Described }
  flags?: { presence?: string; description?: string; default?: unknown; only?: boolean }
  allow?: unknown[]
  type?: string
}

/** What a channel is asked for when it is made, from the same schemas that check it. */
export function fieldsOf(
  kind: ChannelKind,
  settings: { [name: string]: unknown },
  profile?: Profile,
): { settings: FieldHelp[]; secrets: FieldHelp[] } {
  const secrets = kind.schemasFor?.(settings, profile).secrets ?? kind.secrets
  return {
    settings: described(settingsSchema(kind, settings, profile)),
    // What Wobbet makes itself is asked for by nobody.
    secrets: described(secrets).filter(({ name, required }) => required || !(name in kind.madeSecrets)),
  }
}

function described(schema: Joi.ObjectSchema): FieldHelp[] {
  const { keys = {} } = schema.describe() as Described
  return Object.entries(keys).map(([name, { flags = {}, allow = [], type }]) => {
    const options = type === "boolean" ? ["true", "false"] : flags.only ? allow.filter(isText) : []
    return {
      name,
      says: flags.description ?? "",
      required: flags.presence === "required",
      ...(options.length > 0 ? { options } : {}),
      ...(isPlain(flags.default) ? { default: flags.default } : {}),
      common: isCommonSetting(name),
    }
  })
}

const isText = (value: unknown): value is string => typeof value === "string"
const isPlain = (value: unknown): value is string | number | boolean =>
  typeof value === "string" || typeof value === "number" || typeof value === "boolean"
