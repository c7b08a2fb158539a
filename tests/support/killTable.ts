import type { Service, Standin } from "./harness.ts"
import { allOf, atEnd, placeFor, quiet, Stage, startProcess, startService, takenUp } from "./harness.ts"

/** Whether everything is played (`npm run faults`), or of a kill table only what stands for one of its mechanisms. */
export const whole = process.env.WOBBET_WHOLE === "1"

/** Cases that take long, and that `npm run faults` alone runs. */
export const long = <Case>(...cases: Case[]): Case[] => (whole ? cases : [])

/** A test that takes long, and that `npm run faults` alone runs. */
export const longTest = (...given: Parameters<typeof test>) => void (whole && test(...given))

/**
 * A kill table: what happens where a service ends at each of several points. All of its scenes are played before its
 * first test, some at once; `found` gives what came of one, or throws what it threw.
 */
export function killTable<Case extends { always?: true }, Found>(
  all: readonly Case[],
  atOnce: number,
  play: (scene: Case) => Promise<Found>,
): { scenes: (Case & { at: number })[]; found: (at: number) => Found } {
  const scenes = all.filter(({ always }) => whole || always).map((scene, at) => ({ ...scene, at }))
  let found: (() => Found)[]
  beforeAll(async () => {
    found = await allOf(scenes, atOnce, play)
  }, 400_000)
  return { scenes, found: (at) => found[at]!() }
}

/**
 * A service that ends at a fault point, with a channel and a person of its own, and another that takes its place as soon
 * as it has ended. The first one sends for the channel, so that a reply's first attempt begins with the commit of its turn.
 */
export async function dying(
  standin: Standin,
  given: { bot: { [path: string]: string }; faults: string; env?: NodeJS.ProcessEnv; settings?: object },
) {
  const { bot, faults, env = {}, settings = {} } = given
  const where = await placeFor(bot)
  const first = await startProcess({ ...where, env, faults })
  const stage = await Stage.set(first, standin, { gather: 0, ...settings })
  await takenUp(first, stage.key)
  let service: Service = first
  let over = false
  // Another is started for one that its fault point ended, and not for one that ends with the tests.
  atEnd(() => void (over = true))
  const next = first.ended.then(async () => {
    if (!over) service = await startService({ ...where, env })
  })
  return {
    where,
    first,
    stage,
    /** Resolves once another has taken its place and nothing is left to do; gives the service that is there then. */
    async settled(): Promise<Service> {
      await next
      // What was under way when it ended holds its line for as long as the provider may take it.
      await quiet(where.database, 90)
      return service
    },
    /** Resolves once the first has ended and the next has started. */
    async replaced(): Promise<Service> {
      await next
      return service
    },
  }
}
