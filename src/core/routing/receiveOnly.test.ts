import type { Condition } from "./condition.ts"
import type { HandlerName } from "./handlerName.ts"
import { answersNowhere } from "./receiveOnly.ts"

const pager = { key: "pager", kind: "custom", why: "it only receives" }
const text: HandlerName = { text: "Hello" }

test.each<[string, Condition, HandlerName, boolean]>([
  ["a text for all", { phrase: "hello" }, text, true],
  ["one that names the channel", { channel: "pager" }, text, true],
  ["one for another channel", { channel: ["quay", "desk"] }, text, false],
  ["one for the kind", { kind: "custom" }, text, true],
  ["one for another kind", { kind: "slack" }, text, false],
  ["one kept from there", { phrase: "hello", not: { channel: "pager" } }, text, false],
  ["one kept from another", { phrase: "hello", not: { channel: "quay" } }, text, true],
  ["one kept from it under a condition", { not: { channel: "pager", phrase: "x" } }, text, true],
  ["any of several, one of them there", { any: [{ channel: "quay" }, { kind: "custom" }] }, text, true],
  ["all of several, one of them elsewhere", { all: [{ phrase: "x" }, { channel: "quay" }] }, text, false],
  ["code, which may say nothing", { channel: "pager" }, "count", false],
])("%s", (_what, when, handler, is) => {
  const bot = {
    bot: "b",
    gather: 0,
    turnsPerMinute: 30,
    deadline: 1,
    zone: "UTC",
    language: ["en"],
    groups: { otherwise: "addressed" as const },
    routes: [{ name: "greet", when, handler }],
  }
  const faults = answersNowhere(bot, [pager])
  expect(faults.map((fault) => fault.says)).toEqual(
    is ? ['the route "greet" answers on the channel "pager", where nothing can be said: it only receives'] : [],
  )
})
