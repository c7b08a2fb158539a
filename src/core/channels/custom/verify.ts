export { verify, proof } from "../../gateway/verify.ts"
