import Joi from "joi"

/** A provider's address as a channel's setting: http or https, without a name or password, which would hide the host. */
export const apiBase = Joi.string()
  .uri({ scheme: ["http", "https"] })
  .custom((value: string, helpers) => {
    const { username, password } = new URL(value)
    return username === "" && password === ""
      ? value
      : helpers.message({ custom: "apiBase must not contain a name or password" })
  })
