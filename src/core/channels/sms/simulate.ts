export { simulate } from "../../gateway/simulate.ts"
