import { gemoji } from "gemoji"

/** Emoji by the names the provider and much other software give them. */
const byName = new Map(gemoji.flatMap(({ emoji, names }) => names.map((name): [string, string] => [name, emoji])))
const byEmoji = new Map(gemoji.map(({ emoji, names }): [string, string] => [bare(emoji), names[0]!]))

/** The emoji of a name such as `+1` or `wave::skin-tone-2`; the name between colons where it is none of the known. */
export function emojiOf(name: string): string {
  const plain = name.split("::")[0]!
  return byName.get(plain) ?? `:${plain}:`
}

export function nameOf(emoji: string): string | undefined {
  return byEmoji.get(bare(emoji)) ?? /^:([a-z0-9_+-]+):$/.exec(emoji)?.[1]
}

/** Without skin tones and variation selectors. */
function bare(emoji: string): string {
  return emoji.replace(/[\u{1F3FB}-\u{1F3FF}\uFE0F]/gu, "")
}
