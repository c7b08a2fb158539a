import { writeFileSync } from "node:fs"
import { join } from "node:path"
import type { Service, Standin } from "./support/harness.ts"
import {
  endAll,
  eventually,
  placeFor,
  query,
  run,
  Stage,
  startService,
  startStandin,
  tempFolder,
} from "./support/harness.ts"

const botYaml = `
bot: tern
groups: always
routes:
  - { name: book, when: { phrase: "book $word{seats}" }, handler: book }
  - { name: ask, when: { phrase: "ask me" }, handler: ask }
  - { name: tide, when: { phrase: "tide" }, handler: { text: "At {{state.deck}}." } }
  - { name: upper, when: { state: { deck: upper } }, handler: { text: "Your deck is the upper one." } }
unrouted: help
`
const handlers = {
  "handlers/help.ts": `import { handler } from "wobbet"
export default handler(() => "Ask me about the tide.")`,
  "handlers/book.ts": `import { handler } from "wobbet"
export default handler(({ slots, state }) => ({
  replies: "Booked " + slots.seats,
  state: { ...state, seats: Number(slots.seats) || slots.seats },
}))`,
  "handlers/ask.ts": `import { answer, interview, remember } from "wobbet"
export default interview(function* () {
  const seats = yield* answer.text("How many?")
  yield* remember({ seats })
  return "Kept."
})`,
}
const yaml = `
type: object
properties:
  seats: { type: integer, minimum: 1, maximum: 8 }
  deck: { enum: [upper, lower] }
additionalProperties: false
`
const typescript = `import Joi from "joi"
export default Joi.object({ seats: Joi.number().integer().max(8), deck: Joi.valid("upper", "lower") })
export function migrate(state: { top?: boolean; broken?: boolean; seats?: number }) {
  if (state.broken) throw new Error("what is this?")
  return { seats: state.seats, deck: state.top ? "upper" : "lower" }
}
`

let standin: Standin
let service: Service
let free: string
let stage: Stage
let place: Awaited<ReturnType<typeof placeFor>>
beforeAll(async () => {
  standin = await startStandin()
  place = await placeFor({ "bot.yaml": botYaml, "state.yaml": yaml, ...handlers })
  service = await startService(place)
  stage = await Stage.set(service, standin, { gather: 0 })
}, 60_000)
afterAll(endAll)

const parked = () =>
  eventually(async () => (await service.client.parked({ channel: stage.key })).items[0], "a parked turn")

async function drop(): Promise<void> {
  for (const { id } of (await service.client.parked({ channel: stage.key })).items) await service.client.dropParked(id)
}

test("a state that does not fit is not kept: the turn is parked at once, with the field named", async () => {
  await stage.say("book 2")
  expect((await stage.answered(1))[0]!.text).toBe("Booked 2")
  await stage.say("book many")
  const { reason } = await parked()
  expect(reason).toBe('the handler "book" failed: the new state does not fit state.yaml: "seats" must be integer')
  const { conversation } = (await stage.messages())[0]!
  expect((await service.client.conversation(conversation)).state).toEqual({ seats: 2 })
  await drop()

  await stage.say("ask me")
  await stage.answered(2)
  await stage.say("some")
  expect((await parked()).reason).toContain('the handler "ask" failed: the new state does not fit state.yaml: "seats"')
  await drop()

  await stage.say("cancelar")
  await stage.answered(3)

  // By hand it is the same, and nothing is kept.
  const changed = service.client.changeState(conversation, { seats: 9 })
  await expect(changed).rejects.toMatchObject({
    status: 400,
    message: expect.stringContaining('"seats" must be <= 8') as unknown,
  })
  await expect(service.client.changeState(conversation, { cabin: 1 })).rejects.toMatchObject({
    message: expect.stringContaining('"cabin" must NOT have additional properties') as unknown,
  })
  await service.client.changeState(conversation, { seats: 8 })
})

test("the state of an earlier version is given to the author's function before anything is decided", async () => {
  const { conversation } = (await stage.messages())[0]!
  free = tempFolder({ "bot.yaml": botYaml, ...handlers })
  await service.stop()
  service = await startService({ ...place, bot: free })
  stage = new Stage(service, standin, stage.bot, stage.person, stage.key)
  writeFileSync(join(free, "state.ts"), typescript)
  const refused = () =>
    service.client.changeState(conversation, { seats: 99 }).then(
      () => false,
      (error: Error) => error.message.includes("state.ts"),
    )
  await eventually(refused, "the new release")
  await query(
    place.database,
    `UPDATE states SET state = '{"seats": 3, "top": true}' WHERE conversation = '${conversation}'`,
  )
  const before = (await stage.answers()).length
  await stage.say("anything")
  expect((await stage.answered(before + 1)).at(-1)!.text).toBe("Your deck is the upper one.")
  expect((await service.client.conversation(conversation)).state).toEqual({ seats: 3, deck: "upper" })
  const [last] = await stage.messages({ direction: "in" })
  const { out } = await run(["passage", last!.id], service.env)
  expect(out).toMatch(/state top: true → nothing\n.*state deck: nothing → "upper"/)
  expect(out).toContain("● upper")

  await stage.say("book 9")
  expect((await parked()).reason).toContain('does not fit state.ts: "seats" must be less than or equal to 8')
  await drop()
})

test("a function that throws parks the turn, and says where", async () => {
  const { conversation } = (await stage.messages())[0]!
  await service.client.resetConversation(conversation)
  // What an earlier version has left.
  await query(place.database, `UPDATE states SET state = '{"broken": true}' WHERE conversation = '${conversation}'`)
  await stage.say("tide")
  expect((await parked()).reason).toContain("migrate in state.ts: what is this?")
  await drop()
})

test("a state.ts without a schema is told as soon as it is saved", async () => {
  writeFileSync(join(free, "state.ts"), "export default 3")
  await eventually(
    async () => (await service.client.bot()).faults.some(({ says }) => says.includes("is not a Joi schema")),
    "the fault",
  )
})

test.each([
  ["state.yaml", "type: [", "state.yaml"],
  ["state.yaml", "type: nothing", "it is not a schema"],
])("a %s of %j is told by bot check", async (file, text, says) => {
  const wrong = tempFolder({ "bot.yaml": botYaml, ...handlers, [file]: text })
  const checked = await run(["bot", "check", wrong], { ...service.env })
  expect(checked.code).toBe(1)
  expect(checked.out + checked.err).toContain(says)
})

test("bot check knows the types of Joi in a folder that has none of its own", async () => {
  const right = tempFolder({ "bot.yaml": botYaml, ...handlers, "state.ts": typescript })
  expect(await run(["bot", "check", right], service.env)).toMatchObject({ code: 0 })
  const wrong = tempFolder({
    "bot.yaml": botYaml,
    ...handlers,
    "state.ts": typescript.replace("Joi.number()", "Joi.nmber()"),
  })
  const { code, out, err } = await run(["bot", "check", wrong], service.env)
  expect([code, out + err]).toEqual([1, expect.stringContaining("nmber")])
})
