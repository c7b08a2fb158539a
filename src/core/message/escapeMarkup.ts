/** Makes foreign words safe inside light markup: they come out as they went in. */
export function escapeMarkup(text: string): string {
  return text
    .replace(/[\\`*_[\]<>&!]/g, "\\$&")
    .replace(/^([^\S\n\r\u2028\u2029]*)([-+]|\d+[.)])(\s)/gm, (_all, lead: string, mark: string, gap: string) => {
      return `${lead}${mark.slice(0, -1)}\\${mark.slice(-1)}${gap}`
    })
}
