import type { Command } from "commander"
import { connect } from "./context.ts"
import { asJson, colors, print } from "./output.ts"

/** `wobbet token make`. */
export function tokenCommands(program: Command): void {
  program
    .command("token")
    .description("tokens for programs and people")
    .command("make")
    .description("make a token; it is shown this once")
    .argument("<name>", "whose it is, such as laptop-of-ines")
    .option("--role <role>", "owner, developer, operator or reader", "reader")
    .option("--channel <key>", 'good for fetching this channel\'s calls alone ("wobbet bring")')
    .option("--json", "for programs")
    .action(async (name: string, options: { role: string; channel?: string; json?: boolean }) => {
      const role = options.channel ? "bring" : options.role
      const { token } = await connect().makeToken(name, role, options.channel)
      if (asJson(options, { token, name, role })) return
      print(token)
      process.stderr.write(
        colors.dim(
          options.channel
            ? `Good for fetching the calls of ${options.channel} alone. It is shown this once.\n`
            : `With the role ${role}. It is shown this once.\n`,
        ),
      )
    })
}
