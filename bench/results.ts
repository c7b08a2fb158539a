import type { FloodResult, SearchTime } from "./forged.ts"
import type { ElsewhereCost } from "./elsewhere.ts"
import type { InterviewCost } from "./interviews.ts"
import type { KindRates } from "./kinds.ts"
import type { ListTimes } from "./lists.ts"
import type { DateCost, PhraseCost } from "./phrases.ts"
import type { WorstCost } from "./worst.ts"

/** One part of a measured run: milliseconds of processor time a message. */
export interface Share {
  load: number
  service: number
  hosts: number
  postgres: number
}
export interface Run {
  acknowledged: number
  handled: number
  p50: number
  p99: number
  share: Share
}
/** What one build took in each round: milliseconds of processor time a message under load and one at a time, and the wait. */
export interface AgainstFigures {
  share: Share[]
  calm: Share[]
  p50: number[]
}
export interface Results {
  taken: string
  machine: string
  rounds: number
  messages: number
  atOnce: number
  handwritten: Run[]
  wobbet: Run[]
  waiting: { conversations: number; without: number[]; with: number[] }
  memory: { few: number; many: number; after: [number, number] }
  /** Reading and rendering by kind; and messages handled end to end a second, by kind, in rounds. */
  kinds?: { rates: KindRates[]; handled: { [kind: string]: number[] } }
  /** Finding out why a call was refused, and a flood of such calls beside genuine ones. */
  /** Every list and search, with a small record and with a large one. */
  lists?: ListTimes
  /** What the worst input costs, by reader. */
  worst?: WorstCost[]
  /** What phrases cost, by how many a bot has. */
  phrases?: PhraseCost[]
  /** Dates read, by how many languages are looked at. */
  dates?: DateCost[]
  /** What interviews cost. */
  interviews?: InterviewCost
  /** What it costs to leave turns to a program elsewhere. */
  elsewhere?: ElsewhereCost
  /** This build beside that of another commit. */
  against?: { commit: string; now: AgainstFigures; then: AgainstFigures }
  forged?: { search: SearchTime[]; floods: FloodResult[] }
}
