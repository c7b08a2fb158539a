import type { FormPart, OutgoingCall } from "../call.ts"

/** A call of a Bot API method. The address is `<apiBase>/bot<token>/<method>`. */
export function call(
  method: string,
  body: { [field: string]: unknown } | FormPart[],
  options: { speaks: boolean; timeout?: number },
): OutgoingCall {
  const made: OutgoingCall = {
    name: method,
    method: "POST",
    address: [{ setting: "apiBase" }, "/bot", { secret: "token" }, `/${method}`],
    body: Array.isArray(body) ? { form: body } : { json: body },
    speaks: options.speaks,
  }
  if (options.timeout) made.timeout = options.timeout
  return made
}
