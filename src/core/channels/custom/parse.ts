import { parse as parseGateway } from "../../gateway/parse.ts"
import type { Channel, InboundCall, Parsed } from "../kind.ts"

export function parse(call: InboundCall, channel: Channel): Parsed {
  return parseGateway(call, channel)
}
