import { hmacOf } from "../../signature/hmac.ts"
import type { Said, Simulation } from "../simulate.ts"
import { atInlet, seconds, unsigned } from "../simulate.ts"

const team = "T0SIMULATED"
const app = "A0SIMULATED"

/** Events, slash commands and presses as the Events API's and the interaction payloads' documentation shows them. */
export const simulate: Simulation = {
  person: "U0SIMULATED",
  call(said, _channel, now) {
    const ts = `${seconds(now)}.${String(said.number % 1_000_000).padStart(6, "0")}`
    const channel = said.place ?? `D${said.from.address.slice(1)}`
    if (said.press !== undefined)
      return unsigned("form", new URLSearchParams({ payload: JSON.stringify(pressed(said, channel, ts)) }).toString())
    const command = said.media ? undefined : /^(\/[\w-]+)(?:\s+(\S.*)?)?$/s.exec(said.text ?? "")
    if (command) return unsigned("form", slashed(said, channel, command[1]!, command[2] ?? ""))
    const { media } = said
    const files = media
      ? [{ id: `F${said.number}`, name: media.name, mimetype: media.mime, size: media.size, url_private: media.ref }]
      : undefined
    const event = {
      type: "message",
      channel,
      channel_type: said.place === undefined ? "im" : said.place.startsWith("G") ? "group" : "channel",
      user: said.from.address,
      text: said.text ?? "",
      ts,
      ...(files ? { subtype: "file_share", files } : {}),
    }
    const outer = {
      team_id: team,
      api_app_id: app,
      type: "event_callback",
      event_id: `Ev0SIM${said.number}`,
      event_time: seconds(now),
    }
    return unsigned("json", JSON.stringify({ ...outer, event }))
  },
  sign(call, channel, now) {
    const time = String(seconds(now))
    const digest = hmacOf("sha256", channel.secrets.signingSecret ?? "", [`v0:${time}:`, call.body]).toString("hex")
    return atInlet(call, channel, { "x-slack-request-timestamp": time, "x-slack-signature": `v0=${digest}` })
  },
}

function pressed({ from, press, text }: Said, channel: string, ts: string): object {
  return {
    type: "block_actions",
    user: { id: from.address, username: from.name },
    api_app_id: app,
    team: { id: team },
    channel: { id: channel },
    message: { ts, text: "…" },
    container: { type: "message", message_ts: ts, channel_id: channel },
    actions: [
      {
        action_id: press,
        block_id: "simulated",
        type: "button",
        value: press,
        text: { type: "plain_text", text: text ?? press },
        action_ts: ts,
      },
    ],
  }
}

function slashed({ from }: Said, channel: string, command: string, text: string): string {
  return new URLSearchParams({
    team_id: team,
    api_app_id: app,
    channel_id: channel,
    channel_name: channel.startsWith("D") ? "directmessage" : "simulated",
    user_id: from.address,
    user_name: from.name,
    command,
    text,
    trigger_id: "simulated",
  }).toString()
}
