import type { Channel } from "../../core/channels/kind.ts"
import { fillCall } from "./fill.ts"

const channel: Channel = { key: "quay", kind: "sms", settings: {}, secrets: {} }

test.each([
  ["+447700900123", "tel:", "tel:+447700900123"],
  ["acr:pseudonym-123", "tel:", "acr:pseudonym-123"],
  ["+447700900123", "whatsapp:", "whatsapp:+447700900123"],
  ["whatsapp:+447700900123", "", "whatsapp:+447700900123"],
  ["sms:+447700900123", "whatsapp:", "+447700900123"],
])(
  "the place %s behind %s is written %s: an address that names its own way is reached as it came",
  (at, prefix, to) => {
    const call = {
      name: "message",
      method: "POST" as const,
      address: ["https://gw.example/"],
      speaks: true,
      body: { json: { to: { place: "address", as: "text", prefix } } },
    }
    const filled = fillCall(call, { channel, placeAddress: at, mark: "msg_1.0", uploaded: [] })
    expect(JSON.parse(filled.body as string)).toEqual({ to })
  },
)
