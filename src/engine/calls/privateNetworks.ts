import { lookup } from "node:dns"
import type { LookupFunction } from "node:net"
import ipaddr from "ipaddr.js"
import { Agent } from "undici"

/** An address outside the public internet, in a network that nobody named. */
export class PrivateNetwork extends Error {
  constructor() {
    super("its address lies in a private network")
  }
}

const guards = new Map<string, Agent>()

/**
 * Looks at every address a name stands for at the moment of connecting: a name that changes in between helps nobody.
 *
 * @param networks that may be reached although they are private, as addresses or in CIDR notation
 */
export function guarded(networks: string[], connections = 16): Agent {
  const key = `${connections} ${networks.join()}`
  let agent = guards.get(key)
  if (!agent) {
    const look: LookupFunction = (hostname, options, done) => {
      lookup(hostname, { ...options, all: true }, (error, found) => {
        if (error) return done(error, "", 4)
        try {
          for (const { address } of found) refusePrivate(address, networks)
        } catch (refused) {
          return done(refused as Error, "", 4)
        }
        if (options.all) (done as unknown as (error: null, all: typeof found) => void)(null, found)
        else done(null, found[0]!.address, found[0]!.family)
      })
    }
    agent = new Agent({ connections, pipelining: 1, connect: { lookup: look, timeout: 5000 } })
    guards.set(key, agent)
  }
  return agent
}

/** Throws for an address outside the public internet that no named network holds. Names are looked up later. */
export function refusePrivate(hostname: string, networks: string[]): void {
  const host = hostname.replace(/^\[|\]$/g, "")
  if (!ipaddr.isValid(host)) return
  const address = ipaddr.process(host)
  if (address.range() === "unicast") return
  const named = networks.some((network) => {
    try {
      const [base, bits] = network.includes("/")
        ? ipaddr.parseCIDR(network)
        : ([ipaddr.process(network), ipaddr.process(network).kind() === "ipv4" ? 32 : 128] as const)
      return base.kind() === address.kind() && address.match(base, bits)
    } catch {
      return false
    }
  })
  if (!named) throw new PrivateNetwork()
}
