export { account, fetching } from "../../gateway/account.ts"
