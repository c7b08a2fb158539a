/** Characters below which an address is too common to be looked for in what a provider called with. */
const shortestSought = 5

/**
 * How an address may stand in a call: as it is, a phone number without its sign, escaped for an address line or for JSON.
 * Nothing for one so short that it would be found everywhere.
 */
export function formsOfAddress(address: string): string[] {
  const plain = /^\+\d+$/.test(address) ? address.slice(1) : address
  if (plain.length < shortestSought) return []
  const escaped = encodeURIComponent(plain)
  return [...new Set([plain, escaped, escaped.toLowerCase(), JSON.stringify(plain).slice(1, -1)])]
}

/** Whether a text names an address, and not merely a longer word or number with the same signs inside. */
export function namesAddress(text: string, address: string): boolean {
  return formsOfAddress(address).some((form) => {
    for (let at = text.indexOf(form); at >= 0; at = text.indexOf(form, at + 1))
      if (isApart(text, at, at + form.length)) return true
    return false
  })
}

function isApart(text: string, from: number, to: number): boolean {
  const before = text.slice(Math.max(0, from - 3), from)
  // The B of %2B is a sign's, not a word's.
  return (
    (/^%[0-9a-f]{2}$/i.test(before) || !/[\p{L}\p{N}]$/u.test(before)) && !/^[\p{L}\p{N}]/u.test(text.slice(to, to + 1))
  )
}
