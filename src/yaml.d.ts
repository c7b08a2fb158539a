/** Data files that are bundled as their text. */
declare module "*.yaml" {
  const source: string
  export default source
}
