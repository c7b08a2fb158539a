import type { FastifyInstance } from "fastify"
import fastify from "fastify"

export interface HarbourOffice {
  address: string
  stop(): Promise<void>
}

const minutes = [25, 85, 145, 205, 265, 325]

/** The harbour office: a small application of the ferry's own, with the timetable, bookings and claims. */
export async function startOffice(port: number): Promise<HarbourOffice> {
  const app = fastify({ forceCloseConnections: true })
  let tickets = 1040
  let claims = 310
  app.get<{ Querystring: { to?: string } }>("/crossings", async (request) => timetable(new Date(), request.query.to))
  app.post<{ Body: { crossing?: string; seats?: number } }>("/bookings", async (request, reply) => {
    const { crossing, seats } = request.body
    if (!crossing || !seats) return reply.code(400).send({ error: "crossing and seats are needed" })
    return { ticket: `TP-${++tickets}` }
  })
  app.post("/claims", async () => ({ claim: `L-${++claims}` }))
  await listen(app, port)
  return { address: `http://127.0.0.1:${port}`, stop: () => app.close() }
}

async function listen(app: FastifyInstance, port: number): Promise<void> {
  await app.listen({ host: "127.0.0.1", port })
}

function timetable(now: Date, to: string | undefined): object[] {
  const wanted = to && /holm/i.test(to) ? "Holm Island" : to && /tern/i.test(to) ? "Tern Point" : undefined
  return minutes
    .map((ahead, at) => {
      const time = new Date(Math.ceil((now.getTime() + ahead * 60_000) / 300_000) * 300_000)
      const clock = `${String(time.getHours()).padStart(2, "0")}:${String(time.getMinutes()).padStart(2, "0")}`
      const holm = at % 2 === 0
      return {
        id: `${clock.replace(":", "")}${holm ? "h" : "t"}`,
        time: clock,
        from: holm ? "Tern Point" : "Holm Island",
        to: holm ? "Holm Island" : "Tern Point",
        free: 40 - at * 5,
      }
    })
    .filter((one) => wanted === undefined || one.to === wanted)
}
