/** The harbour office's own application, which knows the timetable and keeps the bookings. */
export const office = "http://127.0.0.1:4291"

export interface Crossing {
  id: string
  time: string
  from: string
  to: string
  free: number
}

/** @param day as `2026-12-04`; without one, what still leaves today */
export async function nextCrossings(to?: string, day?: string): Promise<Crossing[]> {
  const query = new URLSearchParams({ ...(to ? { to } : {}), ...(day ? { day } : {}) })
  return ask<Crossing[]>(`/crossings?${query.toString()}`)
}

/** @param key books once, however often it is asked */
export async function bookSeats(
  crossing: string,
  seats: number,
  name: string,
  key: string,
): Promise<{ ticket: string }> {
  return ask<{ ticket: string }>("/bookings", { crossing, seats, name, key })
}

export async function reportFound(what: { ref: string; by: string; note: string }): Promise<{ claim: string }> {
  return ask<{ claim: string }>("/claims", what)
}

export interface Claim {
  claim: string
  by: string
  note: string
}

export async function openClaims(): Promise<Claim[]> {
  return ask<Claim[]>("/claims")
}

export async function takeClaim(claim: string, by: string): Promise<{ taken: boolean }> {
  return ask<{ taken: boolean }>(`/claims/${claim}/take`, { by })
}

/** @param key of the office's fares, which not everybody may ask */
export async function fareTo(to: string, seats: number, key: string): Promise<{ each: number; total: number }> {
  const query = new URLSearchParams({ to, seats: String(seats) })
  return ask(`/fares?${query.toString()}`, undefined, { authorization: `Bearer ${key}` })
}

async function ask<Answer>(path: string, body?: object, headers: { [name: string]: string } = {}): Promise<Answer> {
  const answer = await fetch(
    office + path,
    body
      ? { method: "POST", headers: { "content-type": "application/json", ...headers }, body: JSON.stringify(body) }
      : { headers },
  )
  if (!answer.ok) throw new Error(`the harbour office answered ${answer.status}: ${await answer.text()}`)
  return (await answer.json()) as Answer
}
