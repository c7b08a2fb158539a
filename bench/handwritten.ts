import { timingSafeEqual } from "node:crypto"
import fastify from "fastify"
import knexPackage from "knex"

/**
 * The baseline: the bot a developer writes by hand in one file. The same check of the secret header, one insert in,
 * one state update, one provider call, one insert out. No order, no crash safety, no redelivery, no record.
 */
const { DATABASE_URL, PROVIDER, SECRET } = process.env as { DATABASE_URL: string; PROVIDER: string; SECRET: string }

const knex = knexPackage({ client: "pg", connection: { connectionString: DATABASE_URL }, pool: { min: 0, max: 12 } })
await knex.schema.createTable("messages_in", (table) => {
  table.increments("id")
  table.bigInteger("update_id").notNullable()
  table.bigInteger("chat").notNullable().index()
  table.jsonb("body").notNullable()
  table.timestamp("at").defaultTo(knex.fn.now())
})
await knex.schema.createTable("states", (table) => {
  table.bigInteger("chat").primary()
  table.integer("n").notNullable()
})
await knex.schema.createTable("messages_out", (table) => {
  table.increments("id")
  table.bigInteger("chat").notNullable().index()
  table.text("text").notNullable()
  table.bigInteger("provider_id").notNullable()
  table.timestamp("at").defaultTo(knex.fn.now())
})

interface Update {
  update_id: number
  message: { chat: { id: number }; text?: string }
}

const app = fastify()
app.post("/hook", async (request, reply) => {
  const given = Buffer.from(String(request.headers["x-telegram-bot-api-secret-token"] ?? ""))
  const agreed = Buffer.from(SECRET)
  if (given.length !== agreed.length || !timingSafeEqual(given, agreed)) return reply.code(401).send()
  const update = request.body as Update
  const chat = update.message.chat.id
  await knex("messages_in").insert({ update_id: update.update_id, chat, body: JSON.stringify(update) })
  const [state] = await knex("states")
    .insert({ chat, n: 1 })
    .onConflict("chat")
    .merge({ n: knex.raw("states.n + 1") })
    .returning<{ n: number }[]>("n")
  const text = `count ${state!.n}`
  const answer = await fetch(`${PROVIDER}/botTOKEN/sendMessage`, {
    method: "POST",
    headers: { "content-type": "application/json" },
    body: JSON.stringify({ chat_id: chat, text }),
  })
  const sent = (await answer.json()) as { result: { message_id: number } }
  await knex("messages_out").insert({ chat, text, provider_id: sent.result.message_id })
  return reply.code(200).send()
})
await app.listen({ host: "127.0.0.1", port: 0 })
process.send?.({ port: (app.server.address() as { port: number }).port })
process.on("disconnect", () => process.exit(0))
