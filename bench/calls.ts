import { createHmac } from "node:crypto"

/** What the providers of each kind send for one text, signed as they sign it; the load and the measurements share it. */
export interface MadeCall {
  headers: { [name: string]: string }
  body: string
}

export const secret = "bench-secret"
/** The word Telegram repeats. */
export const hookSecret = "bench-hook-secret"

const hmac = (algorithm: "sha1" | "sha256", over: string, encoding: "hex" | "base64") =>
  createHmac(algorithm, secret).update(over).digest(encoding)

/** @param address of the inlet: the form gateway signs it. */
export const callsOf: {
  [kind: string]: (given: { n: number; person: number; text: string; address: string }) => MadeCall
} = {
  telegram: ({ n, person, text }) => ({
    headers: { "content-type": "application/json", "x-telegram-bot-api-secret-token": hookSecret },
    body: JSON.stringify({
      update_id: n,
      message: {
        message_id: n,
        from: { id: person, is_bot: false, first_name: "Ines", language_code: "pt" },
        chat: { id: person, first_name: "Ines", type: "private" },
        date: Math.floor(Date.now() / 1000),
        text,
      },
    }),
  }),
  whatsapp: ({ n, person, text }) =>
    hub({
      object: "whatsapp_business_account",
      entry: [
        {
          id: "1",
          changes: [
            {
              field: "messages",
              value: {
                messaging_product: "whatsapp",
                metadata: { display_phone_number: "447700900100", phone_number_id: "1" },
                contacts: [{ profile: { name: "Ines" }, wa_id: String(person) }],
                messages: [
                  {
                    from: String(person),
                    id: `wamid.${n}`,
                    timestamp: "1795000000",
                    type: "text",
                    text: { body: text },
                  },
                ],
              },
            },
          ],
        },
      ],
    }),
  messenger: ({ n, person, text }) =>
    hub({
      object: "page",
      entry: [
        {
          id: "1",
          time: 1795000000000,
          messaging: [
            {
              sender: { id: String(person) },
              recipient: { id: "1" },
              timestamp: 1795000000000,
              message: { mid: `m_${n}`, text },
            },
          ],
        },
      ],
    }),
  slack: ({ n, person, text }) => {
    const body = JSON.stringify({
      token: "x",
      team_id: "T1",
      api_app_id: "A1",
      type: "event_callback",
      event_id: `Ev${n}`,
      event_time: 1795000000,
      event: {
        type: "message",
        channel: `D${person}`,
        channel_type: "im",
        user: `U${person}`,
        text,
        ts: `${1795000000 + n}.000100`,
      },
    })
    const time = String(Math.floor(Date.now() / 1000))
    return {
      headers: {
        "content-type": "application/json",
        "x-slack-request-timestamp": time,
        "x-slack-signature": `v0=${hmac("sha256", `v0:${time}:${body}`, "hex")}`,
      },
      body,
    }
  },
  sms: ({ n, person, text, address }) => {
    const fields: [string, string][] = [
      ["AccountSid", "AC1"],
      ["Body", text],
      ["From", `+44${7_000_000_000 + (person % 900_000_000)}`],
      ["MessageSid", `SM${n}`],
      ["NumMedia", "0"],
      ["SmsStatus", "received"],
      ["To", "+447700900100"],
    ]
    const over = address + fields.map(([name, value]) => name + value).join("")
    return {
      headers: {
        "content-type": "application/x-www-form-urlencoded",
        "x-gateway-signature": hmac("sha1", over, "base64"),
      },
      body: new URLSearchParams(fields).toString(),
    }
  },
}

function hub(value: object): MadeCall {
  const body = JSON.stringify(value)
  return {
    headers: {
      "content-type": "application/json",
      "x-hub-signature-256": `sha256=${hmac("sha256", body, "hex")}`,
    },
    body,
  }
}

let taken = 0

/** What a provider of whatever kind answers to a call, by its path; whether it was a message to a person. */
export function answerTo(path: string): { body: string; message: boolean } {
  const id = ++taken
  if (path.includes("/me/messages")) return said({ recipient_id: "1", message_id: `m_out${id}` })
  if (path.endsWith("/messages")) return said({ messaging_product: "whatsapp", messages: [{ id: `wamid.out${id}` }] })
  if (path.startsWith("/api/chat.")) return said({ ok: true, channel: "D1", ts: `${id}.000200` })
  if (path.startsWith("/api/users.info"))
    return { body: '{"ok":true,"user":{"id":"U1","real_name":"Ines","profile":{}}}', message: false }
  if (path.startsWith("/Accounts/")) return said({ sid: `SMout${id}`, status: "queued" })
  if (path.includes("fields=first_name")) return { body: '{"first_name":"Ines","last_name":"C"}', message: false }
  return said({
    ok: true,
    result: { message_id: id, date: 1_760_000_000, chat: { id: 1, type: "private" }, text: "taken" },
  })
}

function said(body: object): { body: string; message: boolean } {
  return { body: JSON.stringify(body), message: true }
}

/** How each kind's channel is added for a load. */
export const channelsFor = (provider: string, service: string) => [
  {
    kind: "telegram",
    settings: { apiBase: provider },
    secrets: { token: "7700900001:bench", hookSecret },
  },
  {
    kind: "whatsapp",
    settings: { apiBase: provider, phoneNumberId: "1", businessAccountId: "1" },
    secrets: { accessToken: "t", appSecret: secret, verifyToken: "v" },
  },
  {
    kind: "messenger",
    settings: { apiBase: provider, pageId: "1" },
    secrets: { pageToken: "t", appSecret: secret, verifyToken: "v" },
  },
  { kind: "slack", settings: { apiBase: provider }, secrets: { botToken: "xoxb-1", signingSecret: secret } },
  {
    kind: "sms",
    settings: { apiBase: provider, number: "+447700900100", accountId: "AC1", publicUrl: service },
    secrets: { authToken: secret },
  },
]
