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
    address: "700",
    since: null,
    until: null,
    ...more,
  }
}
const reply = (more: Partial<MessageRow>) =>
  message({ id: "msg_2", direction: "out", origin: "handler", turn: "trn_1", intake: null, settledAt: later, ...more })
const genuine = { genuine: true, verdict: { genuine: true as const, by: "secret header" } }
const intake = { received_at: at, unreadable: null, notes: null, ...genuine }

test.each<[string, MessageRow, MessageRow[], string, string]>([
  ["answered", message({}), [reply({ status: "sent", providerId: "7" })], "●─●─●─●─●─●─○", "answered"],
  ["answered nothing", message({}), [], "●─●─●─●─●─·─·", "handled"],
  ["waiting for its turn", message({ status: "waiting" }), [], "●─●─●─◐─○─○─○", "waiting"],
  [
    "unrouted and unanswered",
    message({ status: "unrouted", reason: "no route is met" }),
    [],
    "●─●─●─✕ ○─○─○",
    "unrouted",
  ],
  [
    "unrouted, with a fallback",
    message({ status: "unrouted", route: null }),
    [reply({ status: "sent" })],
    "●─●─●─●─●─●─○",
    "answered",
  ],
  ["tried again", message({ status: "retrying", reason: "the handler failed" }), [], "●─●─●─●─◐─○─○", "retrying"],
  [
    "parked after a failure",
    message({ status: "parked", reason: "the handler failed" }),
    [],
    "●─●─●─●─✕ ○─○",
    "parked",
  ],
  ["parked as too late", message({ status: "parked", route: null, reason: "too late" }), [], "●─●─●─✕ ○─○─○", "parked"],
  [
    "whose handler is running",
    message({ status: "being handled", reason: 'the handler "boats" is running', since: at, handledAt: null }),
    [],
    "●─●─●─●─◐─○─○",
    "being handled",
  ],
  ["dropped by a person", message({ status: "dropped", reason: "the handler failed" }), [], "●─●─●─●─✕ ○─○", "dropped"],
  ["the bot's own words", message({ status: "own", reason: "its own" }), [], "●─●─●─·─·─·─·", "own"],
  ["being sent", message({}), [reply({ status: "sending" })], "●─●─●─●─●─◐─○", "being answered"],
  ["not sent", message({}), [reply({ status: "parked", reason: "blocked" })], "●─●─●─●─●─✕ ○", "reply parked"],
  [
    "sent in part",
    message({}),
    [reply({ status: "sent" }), reply({ status: "waiting" })],
    "●─●─●─●─●─◐─○",
    "being answered",
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

test("what somebody else said in our name was received, is ours, and answers nothing", () => {
  const said = reply({ status: "sent", turn: null, origin: "elsewhere", author: "the business app", intake: "itk_1" })
  const stops = messageStops(said, [])
  expect(railText(stops)).toBe("●─●─●─·─·─●─○")
  expect(railWord(stops).word).toBe("sent")
  expect(stops[3]!.why).toBe("said by the business app, not by the bot: never answered")
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
