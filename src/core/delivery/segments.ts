/** How a text travels as SMS (3GPP TS 23.038 and 23.040). */
export interface Segments {
  alphabet: "GSM 03.38" | "UCS-2"
  /** Septets, or 16-bit units. */
  units: number
  /** Parts it is sent in, and billed as. */
  count: number
  /** Units left in the last part. */
  left: number
}

const basic = new Set(
  "@£$¥èéùìòÇ\nØø\rÅåΔ_ΦΓΛΩΠΨΣΘΞÆæßÉ !\"#¤%&'()*+,-./0123456789:;<=>?¡ABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§¿abcdefghijklmnopqrstuvwxyzäöñüà",
)
/** Two septets each: an escape and a letter, which stay together. */
const extended = new Set("^{}\\[~]|€\f")

/** Counts parts as a gateway does: no escape and no surrogate pair is torn apart between two. */
export function countSegments(text: string): Segments {
  const letters = [...text]
  const gsm = letters.every((letter) => basic.has(letter) || extended.has(letter))
  const weights = letters.map((letter) => (gsm ? (extended.has(letter) ? 2 : 1) : letter.length))
  const units = weights.reduce((sum, weight) => sum + weight, 0)
  const [alone, part] = gsm ? [160, 153] : [70, 67]
  const alphabet = gsm ? "GSM 03.38" : "UCS-2"
  if (units <= alone) return { alphabet, units, count: units === 0 ? 0 : 1, left: alone - units }
  let count = 1
  let used = 0
  for (const weight of weights) {
    if (used + weight > part) {
      count++
      used = 0
    }
    used += weight
  }
  return { alphabet, units, count, left: part - used }
}

/** In words, as it stands with an attempt. */
export function segmentWords(text: string): string {
  const { count, alphabet } = countSegments(text)
  return `${count} ${count === 1 ? "segment" : "segments"}, ${alphabet}`
}
