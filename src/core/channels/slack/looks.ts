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
  const sections = blocks.filter((block) => block.type === "section")
  const image =
    blocks.find((block) => block.type === "image") ?? fieldsOf(sections.find((section) => section.accessory)?.accessory)
  const elements = blocks.filter((block) => block.type === "actions").flatMap((block) => listOf(block.elements))
  const options = elements.flatMap((element): LookOption[] =>
    element.type === "static_select"
      ? listOf(element.options).map((option) => ({ label: textOf(fieldsOf(option.text).text), as: "menu" }))
      : [{ label: textOf(fieldsOf(element.text).text), as: element.url ? "link" : "button" }],
  )
  const laidOut = sections.map((section) => textOf(fieldsOf(section.text).text)).join("\n")
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
  return readMarks(source).map((mark) => ({ ...mark, text: readText(mark.text, {}).text }))
}
