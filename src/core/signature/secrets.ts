/** A secret that may have been meant, and in words how it differs. The secret itself is never told. */
export interface SecretNeighbour {
  secret: string
  differs: string
  remedy: string
}

/** A secret of this installation: whose it is, what it is called, and what it is. */
export interface OwnedSecret {
  channel: string
  name: string
  value: string
}

/** What our secret may have been meant to be: without what slipped in around it, or in another writing. */
export function* secretNeighbours(secret: string, name: string, channel: string): Generator<SecretNeighbour> {
  const again = `Enter ${name} again, without it: "wobbet channel change ${channel} --secret ${name}=…".`
  const bare = secret.trim()
  if (bare !== secret)
    yield { secret: bare, differs: `without the spaces or line ends around our ${name}`, remedy: again }
  const unquoted = /^(["'`])(.*)\1$/s.exec(bare)?.[2]
  if (unquoted !== undefined && unquoted !== "")
    yield { secret: unquoted, differs: `without the quotation marks around our ${name}`, remedy: again }
  const theirs = `The other side's ${name} carries it: enter it there again, or ours with it.`
  yield { secret: `${bare}\n`, differs: `with a line end behind our ${name}`, remedy: theirs }
}

/** What is tried last: slips that are rarer. */
export function* rareSecretNeighbours(secret: string, name: string): Generator<SecretNeighbour> {
  const bare = secret.trim()
  const theirs = `The other side's ${name} carries it: enter it there again, or ours with it.`
  yield { secret: `${bare}\r\n`, differs: `with a line end (CRLF) behind our ${name}`, remedy: theirs }
  yield { secret: `${bare} `, differs: `with a space behind our ${name}`, remedy: theirs }
  yield { secret: ` ${bare}`, differs: `with a space before our ${name}`, remedy: theirs }
  for (const [other, words] of [
    [bare.toLowerCase(), "small"],
    [bare.toUpperCase(), "capital"],
  ] as const)
    if (other !== secret)
      yield { secret: other, differs: `with our ${name} in ${words} letters`, remedy: `Copy ${name} again, exactly.` }
}

/** Other secrets that may have been mixed up with the one that counts. */
export function* otherSecrets(
  secret: string,
  name: string,
  channel: string,
  all: Iterable<OwnedSecret>,
): Generator<SecretNeighbour> {
  for (const other of all) {
    if (other.value === secret || (other.channel === channel && other.name === name)) continue
    const own = other.channel === channel
    yield {
      secret: other.value.trim(),
      differs: own ? `under this channel's ${other.name}` : `under the ${other.name} of the channel ${other.channel}`,
      remedy: own
        ? `Are ${other.name} and ${name} mixed up? Set each to what the provider's pages say.`
        : `If both channels belong to one app or account at the provider, give this one the same: "wobbet channel change ${channel} --secret ${name}=…". Otherwise the provider calls this inlet where it should call that of ${other.channel}: compare the addresses there.`,
    }
  }
}
