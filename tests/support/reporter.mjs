import { writeFileSync } from "node:fs"

/**
 * Ends a run with the files and tests that took longest, and one plain line. With WOBBET_SUMMARY=<file> it leaves that to
 * whoever started it, and writes there what it knows.
 */
export default class Reporter {
  onRunComplete(_contexts, { numPassedTests, numFailedTests, numRuntimeErrorTestSuites, testResults }) {
    const nameOf = (path) => path.slice(path.search(/(src|tests)\/[^/]/))
    const longest = (list) => list.sort((a, b) => b.seconds - a.seconds).slice(0, 10)
    const summary = {
      passed: numPassedTests,
      failed: numFailedTests + numRuntimeErrorTestSuites,
      files: longest(
        testResults.map(({ testFilePath, perfStats: { start, end } }) => ({
          name: nameOf(testFilePath),
          seconds: (end - start) / 1000,
        })),
      ),
      tests: longest(
        testResults.flatMap(({ testFilePath, testResults: tests }) =>
          tests.map(({ fullName, duration }) => ({
            name: `${nameOf(testFilePath)}: ${fullName}`,
            seconds: (duration ?? 0) / 1000,
          })),
        ),
      ),
    }
    // Jest's own summary goes to the error stream a moment later; these lines are to be the last.
    process.on("exit", () => {
      const database = globalThis.wobbetTests?.processor ?? 0
      const file = process.env.WOBBET_SUMMARY
      if (file) writeFileSync(file, JSON.stringify({ ...summary, database }))
      else process.stdout.write(`${summary.passed} passed, ${summary.failed} failed\n`)
    })
  }
}
