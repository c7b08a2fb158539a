import { railText, railWord } from "../../client/rail.ts"
import type { MessageRow } from "../../store/messages.ts"
import { messageStops, summaryStops } from "./stops.ts"

const at = new Date("2026-11-23T08:00:00Z")
const later = new Date("2026-11-23T08:00:01Z")

function message(more: Partial<MessageRow>): MessageRow {
  return {
    id: "msg_1",
    channel: "quay",
    kind: "telegram",
    conversation: "cnv_1",
    direction: "in",
    event: "text",
    position: 1,
    origin: "provider",
    author: null,
    intake: "itk_1",
    turn: null,
    providerId: null,
    body: {},
    text: "boat",
    sentAt: null,
    receivedAt: at,
    status: "handled",
    reason: null,
    doubtful: false,
    route: "boats",
    parked: null,
    replies: null,
    handledAt: later,
    settledAt: null,
    toldAt: null,
    kept: null,
    title: null,
    ...more,
  }
}
const reply = (more: Partial<MessageRow>) =>
  message({ id: "msg_2", direction: "out", origin: "handler", turn: "trn_1", intake: null, settledAt: later, ...more })
const genuine = { genuine: true, verdict: { genuine: true as const, by: "secret header" } }
const intake = { received_at: at, unreadable: null, notes: null, ...genuine }

test.each<[string, MessageRow, MessageRow[], string, string]>([
  ["answered", message({}), [reply({ status: "sent", providerId: "7" })], "●─●─●─●─●─●─○", "answered"],
  ["answered nothing", message({}), [], "●─●─●─●─●─·─·", "kept"],
  ["waiting for its turn", message({ status: "waiting" }), [], "●─●─●─◐─○─○─○", "waiting"],
  [
    "unrouted and unanswered",
    message({ status: "unrouted", reason: "no route is met" }),
    [],
    "●─●─●─✕ ○─○─○",
    "unanswered",
  ],
  [
    "unrouted, with a fallback",
    message({ status: "unrouted", route: null }),
    [reply({ status: "sent" })],
    "●─●─●─●─●─●─○",
    "answered",
  ],
  ["tried again", message({ status: "retrying", reason: "the handler failed" }), [], "●─●─●─●─◐─○─○", "being handled"],
  [
    "parked after a failure",
    message({ status: "parked", reason: "the handler failed" }),
    [],
    "●─●─●─●─✕ ○─○",
    "failed",
  ],
  [
    "parked as too late",
    message({ status: "parked", route: null, reason: "too late" }),
    [],
    "●─●─●─✕ ○─○─○",
    "unanswered",
  ],
  ["dropped by a person", message({ status: "dropped", reason: "the handler failed" }), [], "●─●─●─●─✕ ○─○", "failed"],
  ["the bot's own words", message({ status: "own", reason: "its own" }), [], "●─●─●─·─·─·─·", "kept"],
  ["being sent", message({}), [reply({ status: "sending" })], "●─●─●─●─●─◐─○", "being sent"],
  ["not sent", message({}), [reply({ status: "parked", reason: "blocked" })], "●─●─●─●─●─✕ ○", "not sent"],
  [
    "sent in part",
    message({}),
    [reply({ status: "sent" }), reply({ status: "waiting" })],
    "●─●─●─●─●─◐─○",
    "being sent",
  ],
  ["read", message({}), [reply({ status: "read" })], "●─●─●─●─●─●─●", "read"],
])("a message %s", (_name, row, replies, rail, word) => {
  const stops = messageStops(row, replies)
  expect(railText(stops)).toBe(rail)
  expect(railWord(stops).word).toBe(word)
  // A call's rail with this one message in it comes to the same.
  expect(railText(summaryStops(intake, [{ message: row, replies }], false))).toBe(rail)
})

test("our own messages show how far they got; what a person sent skips the stops before", () => {
  expect(railText(messageStops(reply({ status: "sent" }), []))).toBe("●─●─●─●─●─●─○")
  expect(railText(messageStops(reply({ status: "waiting", turn: null, settledAt: null }), []))).toBe("·─·─·─·─·─◐─○")
})

test.each([
  [
    "forged",
    { ...intake, genuine: false, verdict: { genuine: false as const, why: "another word", remedy: "" } },
    false,
    "●─✕ ○─○─○─○─○",
    "not genuine: another word",
  ],
  ["unreadable", { ...intake, unreadable: "no JSON" }, false, "●─●─✕ ○─○─○─○", "no JSON"],
  ["without a message", { ...intake, notes: ["poll: an event without a place"] }, false, "●─●─●─·─·─·─·", "poll"],
])("a call %s", (_name, call, repeated, rail, why) => {
  const stops = summaryStops(call, [], repeated)
  expect(railText(stops)).toBe(rail)
  expect(railWord(stops).why).toContain(why)
})

test("a call that repeats what was seen says as what, and does nothing twice", () => {
  const stops = summaryStops(intake, [{ message: message({ intake: "itk_0" }), replies: [] }], true)
  expect(railText(stops)).toBe("●─●─●─·─·─·─·")
  expect(stops[2]!.why).toContain("msg_1")
})

test("of several messages in one call, the one that needs somebody is shown", () => {
  const good = { message: message({}), replies: [reply({ status: "sent" })] }
  const bad = { message: message({ status: "parked", reason: "the handler failed" }), replies: [] }
  expect(railText(summaryStops(intake, [good, bad], false))).toBe("●─●─●─●─✕ ○─○")
})
