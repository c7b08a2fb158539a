export { judge } from "../../gateway/judge.ts"
