/** Ends a run with one plain line. */
export default class Reporter {
  onRunComplete(_contexts, { numPassedTests, numFailedTests, numRuntimeErrorTestSuites }) {
    // Jest's own summary goes to the error stream a moment later; this line is to be the last.
    const failed = numFailedTests + numRuntimeErrorTestSuites
    process.on("exit", () => process.stdout.write(`${numPassedTests} passed, ${failed} failed\n`))
  }
}
