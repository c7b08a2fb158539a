import type { Channel } from "../../core/channels/kind.ts"
import { fillCall, requestOf } from "./fill.ts"

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

describe("a secret", () => {
  const own: Channel = {
    key: "quay",
    kind: "sms",
    settings: { apiBase: "https://gw.example/v2" },
    secrets: { apiKey: "made-up-key" },
  }
  const call = (address: string) => ({
    name: "media",
    method: "GET" as const,
    address: [address],
    headers: { authorization: ["Bearer ", { secret: "apiKey" }], "x-plain": "yes" },
    speaks: false,
  })
  const filling = () => ({ channel: own, placeAddress: undefined, mark: "", uploaded: [] })

  test("is filled in for the channel's own host", () => {
    expect(fillCall(call("https://gw.example/media/1"), filling()).headers.authorization).toBe("Bearer made-up-key")
    expect(requestOf(call("https://gw.example/media/1"), own).headers.authorization).toBe("Bearer made-up-key")
  })

  test.each(["https://gw.example@evil.example/", "https://evil.example/", "http://gw.example/media/1"])(
    "is not sent to %s, whatever a call says",
    (address) => {
      expect(() => fillCall(call(address), filling())).toThrow("the channel's keys are not sent to")
      expect(requestOf(call(address), own).headers).toEqual({ "x-plain": "yes" })
    },
  )
})
