import { textsNamed } from "./fillText.ts"

import type { Written } from "./texts.ts"
import { isVaried, textsIn } from "./texts.ts"
import type { Bot } from "./bot.ts"
import type { HandlerName } from "./handlerName.ts"

/** Whether what a handler says or offers has variants, also in a text it brings in. */
export function hasVariants(handler: HandlerName, { texts = {} }: Bot): boolean {
  if (typeof handler !== "object") return false
  const { text, choices = [] } = handler as { text?: Written; choices?: { label: Written }[] }
  const varied = (written: Written, depth: number): boolean =>
    isVaried(written) ||
    textsIn(written).some(([, words]) =>
      textsNamed(words).some((name) => depth < 10 && Object.hasOwn(texts, name) && varied(texts[name]!, depth + 1)),
    )
  return [...(text === undefined ? [] : [text]), ...choices.map(({ label }) => label)].some((said) => varied(said, 0))
}
