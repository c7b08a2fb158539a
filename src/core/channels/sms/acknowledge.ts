export { acknowledge } from "../../gateway/acknowledge.ts"
