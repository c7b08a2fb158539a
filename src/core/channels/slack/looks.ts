import type { OutgoingCall } from "../call.ts"
import type { Look, LookOption, Stretch } from "../looks.ts"
import { contentOf, fieldsOf, listOf, readMarks, textOf } from "../looks.ts"
import { readText } from "./text.ts"

export function looks(call: OutgoingCall): Look {
  const content = contentOf(call)
  switch (call.name) {
    case "reactions.add":
      return { words: [], with: `reacts :${textOf(content.name)}:` }
    case "chat.delete":
      return { words: [], with: "the message is taken back" }
    case "files.completeUploadExternal":
      return {
        words: wordsOf(textOf(content.initial_comment)),
        with: `file ${textOf(listOf(content.files)[0]?.title)}`,
      }
  }
  const blocks = listOf(content.blocks)
  const sections = blocks.filter((one) => one.type === "section")
  const image = blocks.find((one) => one.type === "image") ?? fieldsOf(sections.find((one) => one.accessory)?.accessory)
  const elements = blocks.filter((one) => one.type === "actions").flatMap((one) => listOf(one.elements))
  const options = elements.flatMap((one): LookOption[] =>
    one.type === "static_select"
      ? listOf(one.options).map((option) => ({ label: textOf(fieldsOf(option.text).text), as: "menu" }))
      : [{ label: textOf(fieldsOf(one.text).text), as: one.url ? "link" : "button" }],
  )
  const laidOut = sections.map((one) => textOf(fieldsOf(one.text).text)).join("\n")
  const picture = textOf(image.image_url)
  return {
    words: wordsOf(laidOut || textOf(content.text)),
    ...(picture ? { picture } : {}),
    ...(options.length > 0 ? { options } : {}),
    ...(call.name === "chat.update" ? { with: "changes the message" } : {}),
  }
}

/** Links and escapes as people see them, within the formatting. */
function wordsOf(source: string): Stretch[] {
  return readMarks(source).map((one) => ({ ...one, text: readText(one.text, {}).text }))
}
