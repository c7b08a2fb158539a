import type { Message, Moment } from "../message/message.ts"
import type { Question } from "./question.ts"
import type { StandingInterview, Waits } from "./standing.ts"
import { hear, optionId, questionPart } from "./standing.ts"
import { wordsIn } from "./words.ts"

const place = { address: "1", kind: "direct" as const }
const itv = (letter: string) => `itv_${letter.repeat(26)}`
const question: Question = {
  kind: "choice",
  text: "Where?",
  options: [
    { id: "holm", label: "Holm Island" },
    { id: "back", label: "Back" },
  ],
}
const asks = (id: string, who = "ana", more: Partial<Waits> = {}): StandingInterview => ({
  ...{ id, who, handler: "booking", route: "booking", release: "r", stands: "asks", mark: "m", entries: 3 },
  ...{ beneath: null, simulated: null },
  waits: { settings: {}, for: "answer", question, n: 3, tries: 0, askedAt: "", ...more } as Waits,
})
const waits = (id: string, what: Waits): StandingInterview => ({ ...asks(id), stands: "waits", waits: what })
const words = wordsIn(["en"])
const reading = { languages: ["en"], zone: "UTC", now: "2026-12-01T10:00:00Z" }
const heard = (running: StandingInterview[], message: Partial<Message>, who = "ana", meets = false) => {
  const found = hear({
    running,
    who,
    message: { event: "text", place, ...message } as Message,
    words,
    reading,
    meets: () => meets,
  })
  const { does } = found
  if (found.does === "run")
    return [
      does,
      found.interview.id[4],
      found.happened.what,
      "value" in found.happened ? found.happened.value : undefined,
    ]
  if (found.does === "decide") return [does, found.open?.id[4], found.no?.reason]
  if (found.does === "nothing") return [does, found.reason]
  if (found.does === "tell") return [does, found.moment]
  return [does, found.interview.id[4], ...(found.does === "pick" ? [found.picked] : [])]
}
const press = (id: string, n: number, option: string): Partial<Message> => ({
  event: "choice",
  choice: { id: optionId(id, n, option) },
})
const moment = (what: Moment["what"], mark: string | undefined = "m"): Partial<Message> => ({
  event: "interview",
  moment: { interview: itv("a"), what, ...(mark === undefined ? {} : { mark }) },
})
const expecting: Waits = { settings: {}, for: "word", when: {} }

test.each<[string, StandingInterview[], Partial<Message>, unknown[]]>([
  ["an answer", [asks(itv("a"))], { text: "holm island" }, ["run", "a", "answered", "holm"]],
  ["no answer", [asks(itv("a"))], { text: "the moon" }, ["decide", "a", "unread"]],
  ["somebody else's question", [asks(itv("a"), "ben")], { text: "holm" }, ["decide", undefined, undefined]],
  ["cancel", [asks(itv("a"))], { text: "Cancel." }, ["cancel", "a"]],
  ["the command for it", [asks(itv("a"))], { event: "command", command: { name: "cancel" } }, ["cancel", "a"]],
  ["another command", [asks(itv("a"))], { event: "command", command: { name: "book" } }, ["decide", "a", "unread"]],
  ["back", [asks(itv("a"))], { text: "go back" }, ["run", "a", "back", undefined]],
  ["a word that leads back and is an option", [asks(itv("a"))], { text: "back" }, ["run", "a", "answered", "back"]],
  ["its button", [asks(itv("a"))], press(itv("a"), 3, "holm"), ["run", "a", "answered", "holm"]],
  ["a button of a question before", [asks(itv("a"))], press(itv("a"), 2, "holm"), ["tell", "answered"]],
  ["a button of an interview that has ended", [], press(itv("c"), 3, "holm"), ["tell", "answered"]],
  [
    "another person's button",
    [asks(itv("a"), "ben")],
    press(itv("a"), 3, "holm"),
    ["nothing", "the question was put to somebody else"],
  ],
  ["an edit", [asks(itv("a"))], { event: "edited", text: "holm" }, ["decide", undefined, undefined]],
  [
    "a time for an answer that came",
    [asks(itv("a"))],
    moment("late", "other"),
    ["nothing", "what it waited for came meanwhile"],
  ],
  ["a time of an interview that has ended", [], moment("late"), ["nothing", "the interview has ended meanwhile"]],
  ["the time for an answer", [asks(itv("a"))], moment("late"), ["late", "a"]],
  ["nearly that", [asks(itv("a"))], moment("reminder"), ["remind", "a"]],
  ["something in between", [asks(itv("a"))], moment("aside"), ["put again", "a"]],
  [
    "a time for a question set aside",
    [{ ...asks(itv("a")), stands: "set aside" }],
    moment("late"),
    ["nothing", "what it waited for came meanwhile"],
  ],
  [
    "the end by hand, also set aside",
    [{ ...asks(itv("a")), stands: "set aside" }],
    moment("end", undefined),
    ["end", "a"],
  ],
  ["a step back by hand", [asks(itv("a"))], moment("back", undefined), ["run", "a", "back", undefined]],
  [
    "a step back of one that asks nothing",
    [waits(itv("a"), expecting)],
    moment("back", undefined),
    ["nothing", "no question of it is open"],
  ],
  [
    "a pause that is over",
    [waits(itv("a"), { settings: {}, for: "time", until: "" })],
    moment("time"),
    ["run", "a", "time", undefined],
  ],
])("%s", (_name, running, message, wanted) => {
  expect(heard(running, message)).toEqual(wanted)
})

test("what is expected comes after an open question, and before the routes", () => {
  const both = [waits(itv("b"), expecting), asks(itv("a"))]
  expect(heard(both, { text: "holm" }, "ana", true)).toEqual(["run", "a", "answered", "holm"])
  expect(heard([waits(itv("b"), expecting)], { text: "thanks" }, "ana", true)).toEqual(["run", "b", "word", undefined])
  expect(heard([waits(itv("b"), expecting)], { text: "thanks" }, "ana", false)).toEqual([
    "decide",
    undefined,
    undefined,
  ])
  expect(heard([waits(itv("b"), expecting)], { text: "thanks" }, "ben", true)).toEqual(["decide", undefined, undefined])
})

test("of several options each press adds one or takes it back, and the last button ends it", () => {
  const several: Question = { ...question, kind: "choices" }
  const picked = (list: string[]) => [asks(itv("a"), "ana", { question: several, picked: list } as Partial<Waits>)]
  expect(heard(picked([]), press(itv("a"), 3, "holm"))).toEqual(["pick", "a", ["holm"]])
  expect(heard(picked(["holm"]), press(itv("a"), 3, "holm"))).toEqual(["pick", "a", []])
  expect(heard(picked(["back", "holm"]), press(itv("a"), 3, "enough"))).toEqual([
    "run",
    "a",
    "answered",
    ["holm", "back"],
  ])
  const shown = questionPart(itv("a"), picked(["holm"])[0]!.waits as Waits & { for: "answer" }, words)
  expect(shown).toMatchObject({ choices: [{ label: "✓ Holm Island" }, { label: "Back" }, { label: "That is all" }] })
})
