import fc from "fast-check"

/** Texts of any characters at all. The generator's own unit builds a table of every character on each call. */
export const anyText = (maxLength: number): fc.Arbitrary<string> =>
  fc
    .array(fc.integer({ min: 0, max: 0x10f7ff }), { maxLength })
    // A lone surrogate is no character.
    .map((points) => String.fromCodePoint(...points.map((point) => (point < 0xd800 ? point : point + 0x800))))
