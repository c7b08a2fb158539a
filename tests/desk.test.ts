import type { Service, Standin } from "./support/harness.ts"
import {
  endAll,
  eventually,
  pause,
  placeFor,
  query,
  run,
  Stage,
  startService,
  startStandin,
} from "./support/harness.ts"
import type { KindStage } from "./support/kinds.ts"
import { setKind } from "./support/kinds.ts"

const bot = (desk: string) => ({
  "bot.yaml": `
bot: tern
${desk}
routes:
  - { name: hand, when: { phrase: "ask the desk" }, handler: hand }
unrouted: { text: "Boats at **14:20**." }
`,
  "handlers/hand.ts": `import { handler } from "wobbet"
export default handler(() => ({ replies: "The desk answers you here.", leave: "person" }))`,
})

let standin: Standin
let service: Service
let stage: Stage
let slack: KindStage
let place: Awaited<ReturnType<typeof placeFor>>
/** The desk's channel in Slack's stand-in. */
let room: string
beforeAll(async () => {
  standin = await startStandin()
  place = await placeFor(bot(""))
  service = await startService(place)
  stage = await Stage.set(service, standin, { gather: 0 })
  slack = await setKind(service, "slack", { gather: 0 })
  const world = slack.standin as unknown as { world: { channels: { id: string }[] } }
  room = world.world.channels[0]!.id
  await service.stop()
  place = { ...place, bot: (await placeFor(bot(`desk: { channel: ${slack.key}, place: ${room} }`))).bot }
  service = await startService(place)
  stage = new Stage(service, standin, stage.bot, stage.person, stage.key)
}, 60_000)
afterAll(endAll)

const atDesk = () => slack.standin.stage.screen(room).filter((one) => !one.mine && !one.gone)
const deskSays = (text: RegExp) =>
  eventually(async () => atDesk().find((one) => text.test(one.text)), `the desk to read ${text.source}`)

async function somebody(name: string) {
  const { id } = await standin.post<{ id: number }>("people", { first_name: name, language_code: "en" })
  return { id, says: (text: string) => stage.send({ from: id, text }), answers: () => stage.answers(id) }
}

test("the desk is told once who waits, takes it by name, and gives it back", async () => {
  const mei = await somebody("Mei *Tanaka*")
  await mei.says("ask the desk")
  const told = await deskSays(/waits for a person/)
  expect(told.text).toContain("Mei *Tanaka*")
  expect(told.text).toContain("ask the desk")
  expect(told.buttons!.map(({ label }) => label)).toEqual(["I answer"])
  await pause(2500)
  expect(atDesk().filter(({ text }) => text.includes("waits for a person"))).toHaveLength(1)
  // With what somebody wants, not with what they were told last.
  const listed = (await run(["conversation", "list", "--waiting"], service.env)).out
  expect(listed).toMatch(/Mei.*ask the desk/)
  expect(listed).not.toContain("The desk answers you here")

  await slack.does("press", { channel: room, button: "I answer" })
  await deskSays(/answers .*Mei.* now; the bot keeps quiet there/)
  const { id } = (await service.client.conversations({ waiting: true })).items[0]!
  expect((await service.client.conversation(id)).takenBy).toContain(`(on ${slack.key})`)
  expect((await service.client.audit({ did: "conversation taken" })).items[0]).toMatchObject({
    who: expect.stringContaining(`(on ${slack.key})`) as unknown,
    detail: { id },
  })
  await mei.says("hello?")
  await pause(700)
  expect(await mei.answers()).toHaveLength(1)

  await slack.does("press", { channel: room, button: "Back to the bot" })
  await deskSays(/The bot answers .*Mei.* again/)
  await mei.says("and now?")
  await stage.answered(2, mei.id)
})

test("a command lists who waits, the one that waits longest first, and another's is not taken away", async () => {
  const [ana, ben] = [await somebody("Ana"), await somebody("Ben")]
  await ana.says("ask the desk")
  await stage.answered(1, ana.id)
  await ben.says("ask the desk")
  await stage.answered(1, ben.id)
  await slack.does("command", { channel: room, command: "/waiting" })
  const list = await deskSays(/2 wait for a person/)
  expect(list.buttons!.map(({ label }) => label)).toEqual(["Ana", "Ben"])
  const [first] = (await service.client.conversations({ waiting: true })).items
  await service.client.takeConversation(first!.id)
  await slack.does("press", { channel: room, button: "Ana" })
  await deskSays(/already answers .*Ana/)
  // Elsewhere than at the desk the command means nothing.
  await slack.does("command", { command: "/waiting" })
  await pause(700)
  expect(atDesk().filter(({ text }) => /wait for a person/.test(text))).toHaveLength(1)
})

test("a process that ends between the note and the message leaves both or neither", async () => {
  const ivo = await somebody("Ivo")
  await ivo.says("ask the desk")
  await deskSays(/Ivo.*waits for a person/)
  await service.stop()
  service = await startService(place)
  stage = new Stage(service, standin, stage.bot, stage.person, stage.key)
  await pause(2500)
  expect(atDesk().filter(({ text }) => /Ivo.*waits/.test(text))).toHaveLength(1)
  const open = await query(
    place.database,
    "SELECT 1 FROM conversations WHERE answered_by = 'person' AND taken_by IS NULL AND told_at IS NULL",
  )
  expect(open).toEqual([])
})
