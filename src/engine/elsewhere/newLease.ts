import { randomUUID } from "node:crypto"

/** The name of a lease: whoever has it holds the turn. */
export const newLease = () => `lease_${randomUUID()}`
