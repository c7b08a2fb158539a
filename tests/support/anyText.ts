import fc from "fast-check"

/** Any characters at all. The generator's own unit for these makes a table of all there are each time it is asked for. */
export const anyText = (maxLength: number): fc.Arbitrary<string> =>
  fc
    .array(fc.integer({ min: 0, max: 0x10f7ff }), { maxLength })
    // Half of a pair is no character.
    .map((points) => String.fromCodePoint(...points.map((point) => (point < 0xd800 ? point : point + 0x800))))
