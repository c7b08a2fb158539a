import Joi from "joi"

/** Characters of one field's value as JSON. */
const longest = 16 * 1024

/** What is kept with a person, by names: set by hand, or remembered by a handler. Null takes one away. */
export const personFields = Joi.object()
  .pattern(
    /^[A-Za-z][A-Za-z0-9_]{0,40}$/,
    Joi.any().custom((value: unknown, helpers) =>
      (JSON.stringify(value) ?? "").length <= longest
        ? value
        : helpers.message({ custom: "{#label} has more than 16 kB" }),
    ),
  )
  .max(50)
