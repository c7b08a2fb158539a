/** Which part of two addresses differs, in words. */
export function addressDifference(provider: string, theirs: string, ours: string): string {
  const both = `${provider} has ${theirs} on record, but this channel's inlet is ${ours}`
  if (!URL.canParse(theirs)) return `${both}: the one on record is not a full address.`
  const a = new URL(theirs)
  const b = new URL(ours)
  const parts: string[] = []
  if (a.protocol !== b.protocol) parts.push(`the scheme (${a.protocol} against ${b.protocol})`)
  if (a.hostname !== b.hostname) parts.push("the host")
  if (a.port !== b.port) parts.push("the port")
  if (a.pathname !== b.pathname) {
    const slash = a.pathname.replace(/\/$/, "") === b.pathname.replace(/\/$/, "")
    parts.push(slash ? "a slash at the end" : "the path")
  }
  if (a.search !== b.search) parts.push("the query")
  return `${both}: they differ in ${parts.join(" and ") || "the way they are written"}.`
}
