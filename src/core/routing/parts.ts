import Joi from "joi"
import { readDuration } from "./duration.ts"

/** One of something, or a list of it. */
export const oneOrMore = (item: Joi.Schema) => Joi.alternatives(item, Joi.array().items(item).min(1))

/** A length of time, as milliseconds. */
export const duration = Joi.alternatives(Joi.number().min(0), Joi.string()).custom(
  (value: number | string, helpers) => {
    const says = `"${value}" is not a length of time; write 500ms, 1s, 2m, 1h or 3d`
    return readDuration(value) ?? helpers.message({ custom: "{#says}" }, { says })
  },
)

/** What may be written as one or several, as a list. */
export function list<T>(value: T | T[] | undefined): T[] {
  return value === undefined ? [] : Array.isArray(value) ? value : [value]
}
