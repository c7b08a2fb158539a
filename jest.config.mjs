export default {
  testMatch: ["<rootDir>/src/**/*.test.ts", "<rootDir>/tests/**/*.test.ts"],
  extensionsToTreatAsEsm: [".ts", ".tsx", ".yaml"],
  // These tests take long and show no mechanism of the promises: npm run faults runs them, and npm test where named.
  testPathIgnorePatterns: ["/node_modules/", ...(process.env.WOBBET_WHOLE === "1" ? [] : ["/tests/long/"])],
  transform: { "\\.(tsx?|yaml)$": "<rootDir>/tests/support/transform.mjs" },
  testEnvironment: "<rootDir>/tests/support/environment.mjs",
  testTimeout: 120_000,
  // More than there are processors: a test of several processes waits more than it computes.
  maxWorkers: 4,
  globalSetup: "<rootDir>/tests/support/setup.mjs",
  globalTeardown: "<rootDir>/tests/support/teardown.mjs",
  reporters: ["default", "<rootDir>/tests/support/reporter.mjs"],
}
