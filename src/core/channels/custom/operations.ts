export { operations } from "../../gateway/operations.ts"
