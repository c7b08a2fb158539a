import { parse as parseGateway } from "../../gateway/parse.ts"
import type { Channel, Parsed } from "../kind.ts"
import type { InboundCall } from "../call.ts"

export function parse(call: InboundCall, channel: Channel): Parsed {
  return parseGateway(call, channel)
}
