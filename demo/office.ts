import { createHmac } from "node:crypto"
import type { FastifyInstance } from "fastify"
import fastify from "fastify"

/** The office's keys: one signs what it is asked, one opens its fares. Made up, as everything here is. */
export const officeKeys = {
  OFFICE_KEY: "standin-office-signs",
  FARES_KEY: "standin-fares-of-holm",
  OFFICE_HOOK: "standin-office-tells",
  MODEL_KEY: "standin-model-of-the-harbour",
}

export interface HarbourOffice {
  address: string
  /** Where it tells what happens. */
  tells?: string
  stop(): Promise<void>
}

interface Claim {
  claim: string
  by: string
  /** By which the office knows people. */
  email: string
  note: string
}

/** The office's own address for somebody: the first name. */
export function emailOf(name: string): string {
  const [first = ""] = name
    .normalize("NFKD")
    .replace(/[^\p{L} ]/gu, "")
    .toLowerCase()
    .split(" ")
  return `${first}@ferry.example`
}

/** Holm Island from the sea, as far as rectangles and circles can tell. */
const holmIsland = `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 320 180"><rect width="320" height="180" fill="#dbe7e4"/><circle cx="250" cy="46" r="20" fill="#f4efe2"/><path d="M20 132 Q90 66 160 104 T300 132 Z" fill="#5c7d72"/><rect x="196" y="58" width="14" height="52" fill="#fff"/><rect x="196" y="70" width="14" height="9" fill="#7B2D5B"/><rect x="193" y="50" width="20" height="8" fill="#12332E"/><rect y="130" width="320" height="50" fill="#8fb0a8"/><path d="M0 146 h320 M0 160 h320" stroke="#dbe7e4" stroke-width="2" stroke-dasharray="26 18"/></svg>`

const minutes = [25, 85, 145, 205, 265, 325]

/** The harbour office: a small application of the ferry's own, with the timetable, bookings and claims. */
export async function startOffice(port: number): Promise<HarbourOffice> {
  const app = fastify({ forceCloseConnections: true })
  let tickets = 1040
  let claims = 310
  app.get<{ Querystring: { to?: string; day?: string } }>("/crossings", async ({ query: { to, day } }) =>
    day === undefined || day === isoDay(new Date()) ? timetable(new Date(), to) : daysBoats(day, to),
  )
  const booked = new Map<string, string>()
  app.post<{ Body: { crossing?: string; seats?: number; key?: string } }>("/bookings", async (request, reply) => {
    const { crossing, seats, key } = request.body
    if (!crossing || !seats) return reply.code(400).send({ error: "crossing and seats are needed" })
    const before = key === undefined ? undefined : booked.get(key)
    if (before) return { ticket: before }
    const ticket = `TP-${++tickets}`
    if (key !== undefined) booked.set(key, ticket)
    return { ticket }
  })
  const open: Claim[] = [
    { claim: "L-309", by: "the night watch", email: "night@ferry.example", note: "One brown boot, left" },
    { claim: "L-310", by: "Mara Lindqvist", email: "mara@ferry.example", note: "A child's kite with a fox on it" },
  ]
  app.post<{ Body: { by?: string; email?: string; note?: string } }>("/claims", async (request) => {
    const claim = `L-${++claims}`
    const { by = "somebody", email = emailOf(by), note = "" } = request.body
    open.push({ claim, by, email, note })
    return { claim }
  })
  app.get("/claims", async () => open)
  app.post<{ Params: { claim: string }; Body: { by?: string } }>("/claims/:claim/take", async (request) => {
    const at = open.findIndex((one) => one.claim === request.params.claim)
    const [claim] = at >= 0 ? open.splice(at, 1) : []
    if (claim)
      void tell("claim.taken", {
        claim: claim.claim,
        note: claim.note,
        by: claim.email,
        taker: emailOf(request.body.by ?? ""),
      })
    return { taken: claim !== undefined }
  })
  /** Tells the bot what happened, where it knows the address. */
  const tell = async (type: string, about: object) => {
    if (office.tells === undefined) return
    await fetch(office.tells, {
      method: "POST",
      headers: { "content-type": "application/json", authorization: `Bearer ${officeKeys.OFFICE_HOOK}` },
      body: JSON.stringify({ type, ...about }),
    }).catch(() => undefined)
  }
  // What a fare is, for whoever has the key.
  app.get<{ Querystring: { to?: string; seats?: string } }>("/fares", async (request, reply) => {
    if (request.headers.authorization !== `Bearer ${officeKeys.FARES_KEY}`) return reply.code(401).send()
    const { to, seats = "1" } = request.query
    const each = to === undefined || /holm/i.test(to) ? 4.2 : 3.8
    return { each, total: Math.round(each * Number(seats) * 100) / 100, currency: "EUR" }
  })
  await app.register(async (asked) => askedByWobbet(asked))
  app.get("/pictures/holm-island.svg", async (_request, reply) => reply.type("image/svg+xml").send(holmIsland))
  await listen(app, port)
  const office: HarbourOffice = { address: `http://127.0.0.1:${port}`, stop: () => app.close() }
  return office
}

/** Turns that the bot leaves to the office: signed calls, answered with what is to be said. */
function askedByWobbet(app: FastifyInstance): void {
  app.addContentTypeParser("application/json", { parseAs: "string" }, (_request, body, done) => done(null, body))
  app.post<{ Body: string }>("/asked/times", async (request, reply) => {
    const { "webhook-id": id, "webhook-timestamp": at, "webhook-signature": given } = request.headers
    const signed = createHmac("sha256", officeKeys.OFFICE_KEY).update(`${String(id)}.${String(at)}.${request.body}`)
    if (
      !String(given)
        .split(" ")
        .includes(`v1,${signed.digest("base64")}`)
    )
      return reply.code(401).send()
    const { slots, state } = (JSON.parse(request.body) as AskedBody).data
    const boats = timetable(new Date(), slots.place) as { time: string; to: string; free: number }[]
    const lines = boats.map(({ time, to, free }) => `- **${time}** to ${to}, ${free} seats free`)
    return { replies: [`Still to leave:\n\n${lines.join("\n")}`], state: { ...state, askedTimes: true } }
  })
}

interface AskedBody {
  data: { slots: { place?: string }; state: { [field: string]: unknown } }
}

async function listen(app: FastifyInstance, port: number): Promise<void> {
  await app.listen({ host: "127.0.0.1", port })
}

/** The boats of another day, every two hours from eight in the morning. */
function daysBoats(day: string, to: string | undefined): object[] {
  return [8, 10, 12, 14, 16, 18].flatMap((hour) =>
    [true, false].flatMap((holm) => {
      const place = holm ? "Holm Island" : "Tern Point"
      const clock = `${String(hour).padStart(2, "0")}:${holm ? "10" : "50"}`
      const crossing = { id: `${day}-${clock.replace(":", "")}${holm ? "h" : "t"}`, time: clock, to: place, free: 60 }
      return to === undefined || to === place ? [{ ...crossing, from: holm ? "Tern Point" : "Holm Island" }] : []
    }),
  )
}

function isoDay(date: Date): string {
  return date.toISOString().slice(0, 10)
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
