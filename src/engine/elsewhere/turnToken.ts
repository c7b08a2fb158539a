import { timingSafeEqual } from "node:crypto"
import type { TokenTurn } from "../../store/waits.ts"
import type { Seal } from "../seal.ts"

/** The token of a turn: whoever was asked answers with it, later, by the API. It says which turn, and cannot be guessed. */
export function tokenOf(seal: Seal, turn: TokenTurn): string {
  return `${turn.message}.${turn.position}.${turn.leg}.${proofOf(seal, turn)}`
}

const form = /^(msg_[0-9a-z]{10,26})\.(\d{1,15})\.(\d)\.([0-9a-f]{40})$/

/** Which turn a token is of; nothing where it is none of ours. */
export function turnOfToken(seal: Seal, token: string): TokenTurn | undefined {
  const found = form.exec(token)
  if (!found) return undefined
  const turn = { message: found[1]!, position: Number(found[2]), leg: Number(found[3]) }
  return timingSafeEqual(Buffer.from(found[4]!), Buffer.from(proofOf(seal, turn))) ? turn : undefined
}

function proofOf(seal: Seal, { message, position, leg }: TokenTurn): string {
  return seal.sign(`answer to ${message} at ${position} ${leg}`).slice(0, 40)
}
