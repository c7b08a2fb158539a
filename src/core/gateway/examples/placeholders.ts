/** A text that documentation puts where a value of the reader's own belongs, as the name it gives to it. */
export function placeholderIn(value: string): string | undefined {
  const text = value.trim()
  const written =
    /^(?:\{\{?\s{0,3}([\w .-]{1,60}?)\s{0,3}\}?\}|<\s{0,3}([\w .-]{1,60}?)\s{0,3}>|\[([A-Za-z][\w .-]{1,60})\]|\$\{?([A-Za-z_]\w{0,60})\}?|%([A-Za-z_]\w{0,60})%|:([a-z][\w-]{1,60}))$/.exec(
      text,
    )
  const name = written?.slice(1).find((one) => one !== undefined)
  if (name !== undefined) return name
  if (/^(?:x{4,}|\*{3,}|\.{3,}|…)$/i.test(text)) return "value"
  const yours = /^(?:your|my|insert|replace|enter)[\s_-]{1,3}([\w .-]{1,60}?)(?:[\s_-]{1,3}here)?$/i.exec(text)?.[1]
  if (yours !== undefined) return yours
  // Capitals with underscores, such as API_KEY, are a name and no value; but so are the names of events.
  return /^[A-Z][A-Z0-9]*(?:_[A-Z0-9]+)+$/.test(text) && own.test(text) ? text.replace(/^(?:YOUR|MY)_/, "") : undefined
}

/** What readers have of their own, as documentation names it. */
const own =
  /(^(YOUR|MY)_)|_(KEY|TOKEN|SECRET|PASSWORD|ID|SID|NAME|NUMBER|URL|USER|USERNAME|PHONE|SENDER|ACCOUNT|INSTANCE)$/

/** A name as settings and secrets are called: accountId for `Account-ID`, `account_id` and `ACCOUNT ID`. */
export function settingName(given: string): string {
  const words = given
    .replace(/^x-/i, "")
    .replace(/([a-z0-9])([A-Z])/g, "$1 $2")
    .split(/[^A-Za-z0-9]+/)
    .filter(Boolean)
    .map((word) => word.toLowerCase())
  if (words[0] === "your" || words[0] === "my") words.shift()
  const name = words.map((word, at) => (at === 0 ? word : word[0]!.toUpperCase() + word.slice(1))).join("")
  return /^[a-z]/.test(name) ? name : `value${name}`
}
