import Joi from "joi"
import { callsOf } from "./callsOf.ts"
import type { Profile } from "./profile.ts"

/** A channel's settings, with those its profile has gained since they were kept. */
export function withDefaults(
  settings: { [name: string]: unknown },
  profile: Profile | undefined,
): { [name: string]: unknown } {
  if (!profile) return settings
  const usual = Object.entries(profile.settings).flatMap(([name, one]) =>
    one.default === undefined || name in settings ? [] : [[name, one.default]],
  )
  return usual.length === 0 ? settings : { ...settings, ...(Object.fromEntries(usual) as object) }
}

/** A kind's own settings with those the profile declares; its secrets, of which one must prove what comes in. */
export function profileSchemas(
  settings: Joi.ObjectSchema,
  profile: Profile | undefined,
): { settings: Joi.ObjectSchema; secrets: Joi.ObjectSchema } {
  if (!profile) return { settings: settings.unknown(true), secrets: Joi.object().pattern(Joi.string(), Joi.string()) }
  // What the profile's addresses and bodies name must be there.
  const written = JSON.stringify([...callsOf(profile), profile.inline?.send])
  const needed = ["apiBase", "number"].filter((name) => written.includes(`{${name}}`))
  const base = settings.fork(needed, (schema) => schema.required())
  const own = Object.entries(profile.settings).map(([name, one]): [string, Joi.Schema] => {
    const schema = Joi.string().description(one.says)
    return [name, one.required ? schema.required() : one.default === undefined ? schema : schema.default(one.default)]
  })
  const secrets = Object.entries(profile.secrets).map(([name, one]): [string, Joi.Schema] => {
    const schema = Joi.string().description(one.says)
    return [name, one.required ? schema.required() : schema]
  })
  const proofs = (profile.inbound?.verify ?? []).map((one) => one.secret)
  const described = Joi.object(Object.fromEntries(secrets))
  return {
    // An empty list of keys would allow none.
    settings: own.length > 0 ? base.keys(Object.fromEntries(own)) : base,
    secrets: proofs.length > 0 ? described.or(...new Set(proofs)) : described,
  }
}
