import type { Service, Standin } from "../support/harness.ts"
import {
  endAll,
  freePort,
  eventually,
  freshDatabase,
  query,
  Stage,
  startService,
  startStandin,
  tempFolder,
} from "../support/harness.ts"
import { quayBot } from "../support/quayBot.ts"
import { bring, hookSecret, update } from "../support/updates.ts"

let service: Service
let standin: Standin
let database: string
beforeAll(async () => {
  standin = await startStandin()
  database = await freshDatabase()
  service = await startService({ database, bot: tempFolder(quayBot) })
})
afterAll(endAll)

const group = { id: -1_007_700_900_001, type: "supergroup", title: "Quay desk" }

/** A bot at the stand-in, and its channel, added while the provider cannot be reached. */
async function strangerToItself(key: string, settings: object = {}) {
  const bot = await standin.post<{ username: string; token: string; id: number }>("bots", {
    username: `${key.replaceAll("-", "_")}_bot`,
    name: "Tern Point",
  })
  const apiBase = `http://127.0.0.1:${await freePort()}`
  await service.client.addChannel({
    kind: "telegram",
    key,
    settings: { apiBase, ...settings },
    secrets: { token: bot.token, hookSecret },
  })
  return bot
}

const last = async (key: string) =>
  eventually(async () => {
    const [message] = (await service.client.messages({ channel: key, direction: "in", limit: 1 })).items
    return message && message.status !== "waiting" ? message : undefined
  }, "the turn")

test("a channel knows who it is as soon as it is added", async () => {
  const stage = await Stage.set(service, standin)
  const bot = await standin.post<{ username: string; token: string }>("bots", {
    username: "harbour_bot",
    name: "Harbour",
  })
  const added = await service.client.addChannel({
    kind: "telegram",
    key: "harbour",
    settings: { apiBase: standin.address },
    secrets: { token: bot.token },
  })
  expect(added.identity).toMatchObject({ handle: "harbour_bot" })
  // Other keys are another account.
  const changed = await service.client.changeChannel("harbour", { secrets: { token: stage.bot.token } })
  expect(changed.identity).toMatchObject({ handle: stage.bot.username })
})

test("one that could not ask then asks with its first call, before it is read", async () => {
  const bot = await strangerToItself("late-to-know")
  expect((await service.client.channel("late-to-know")).identity).toBeUndefined()
  // The provider is there again.
  await query(
    database,
    `UPDATE channels SET settings = settings || '{"apiBase": "${standin.address}"}' WHERE key = 'late-to-know'`,
  )
  await eventually(
    async () => (await service.client.channel("late-to-know")).settings.apiBase === standin.address,
    "the service to know the address",
  )
  const text = `@${bot.username} hello`
  const entities = [{ type: "mention", offset: 0, length: bot.username.length + 1 }]
  const said = update(7_100_000_001, text, { chat: group, entities })
  expect(await bring(service, "late-to-know", hookSecret, said)).toBe(200)
  expect((await last("late-to-know")).body).toMatchObject({ mentionsBot: true })
  expect((await service.client.channel("late-to-know")).identity).toMatchObject({ handle: bot.username })
})

test("while it does not know, nothing is guessed: a command with a name in a group is taken for nobody's", async () => {
  await strangerToItself("stranger")
  const entities = [{ type: "bot_command", offset: 0, length: 16 }]
  const said = update(7_100_000_001, "/start@other_bot", { chat: group, entities })
  expect(await bring(service, "stranger", hookSecret, said)).toBe(200)
  expect((await last("stranger")).event).toBe("text")
})

test("a bot that answers bots never answers itself, not even before it knows who it is", async () => {
  const bot = await strangerToItself("narcissus", { answerBots: true })
  const own = update(bot.id, "say hello", { chat: group, from: { id: bot.id, is_bot: true, first_name: "Tern Point" } })
  expect(await bring(service, "narcissus", hookSecret, own)).toBe(200)
  expect(await last("narcissus")).toMatchObject({
    status: "from a bot",
    reason: expect.stringContaining("does not know who it is itself") as unknown,
    replies: [],
  })
})
