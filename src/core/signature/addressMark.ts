import { createHmac } from "node:crypto"

/** Keyed hash of somebody's address on a channel: it tells the address from every other, and nothing about it. */
export function addressMark(key: Buffer, channel: string, address: string): string {
  return createHmac("sha256", key).update(`address ${channel} ${address}`).digest("hex").slice(0, 32)
}
