import { custom } from "./custom/index.ts"
import type { ChannelKind } from "./kind.ts"
import { messenger } from "./messenger/index.ts"
import { slack } from "./slack/index.ts"
import { sms } from "./sms/index.ts"
import { telegram } from "./telegram/index.ts"
import { whatsapp } from "./whatsapp/index.ts"

/** Every kind of channel there is. */
export const kinds: { [kind: string]: ChannelKind } = { telegram, whatsapp, messenger, slack, sms, custom }

export function kindOf(kind: string): ChannelKind {
  const found = kinds[kind]
  if (!found) throw new Error(`There is no channel kind "${kind}". There are: ${Object.keys(kinds).join(", ")}.`)
  return found
}
