/** Ends a run with the files that took longest, and one plain line. */
export default class Reporter {
  onRunComplete(_contexts, { numPassedTests, numFailedTests, numRuntimeErrorTestSuites, testResults }) {
    const files = testResults
      .map(({ testFilePath, perfStats }) => ({ path: testFilePath, seconds: (perfStats.end - perfStats.start) / 1000 }))
      .sort((a, b) => b.seconds - a.seconds)
      .slice(0, 10)
    // Jest's own summary goes to the error stream a moment later; these lines are to be the last.
    const failed = numFailedTests + numRuntimeErrorTestSuites
    process.on("exit", () => {
      if (files.length > 1) console.log("The files that took longest, in seconds:")
      if (files.length > 1)
        for (const { path, seconds } of files)
          console.log(`${seconds.toFixed(1).padStart(7)}  ${path.slice(path.search(/(src|tests)\/[^/]/))}`)
      process.stdout.write(`${numPassedTests} passed, ${failed} failed\n`)
    })
  }
}
