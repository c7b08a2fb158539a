import { XMLBuilder, XMLParser, XMLValidator } from "fast-xml-parser"

const parser = new XMLParser({
  ignoreAttributes: false,
  attributeNamePrefix: "@",
  // Ids are text, whatever they look like.
  parseTagValue: false,
  parseAttributeValue: false,
  trimValues: true,
  // An element of whitespace alone is empty; declarations and processing instructions say nothing about a message.
  ignoreDeclaration: true,
  ignorePiTags: true,
  // Characters written as numbers.
  htmlEntities: true,
})

const builder = new XMLBuilder({ ignoreAttributes: false, attributeNamePrefix: "@", suppressEmptyNode: false })

/**
 * XML as a tree of names: attributes begin with `@`, an element that comes several times is a list. Throws an error that
 * says on which line the text is no XML. Document types are refused: their entities can grow without end.
 */
export function readXml(text: string): unknown {
  if (/<!(DOCTYPE|ENTITY)/i.test(text)) throw new Error("it declares a document type, which is never read")
  const valid = XMLValidator.validate(text)
  if (valid !== true) throw new Error(`${valid.err.msg} (line ${valid.err.line})`)
  return parser.parse(text) as unknown
}

/** Writes such a tree; what it holds is escaped. */
export function writeXml(tree: unknown): string {
  return builder.build(tree)
}
