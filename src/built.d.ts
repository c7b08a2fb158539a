/** Set by the build: whether this one has the fault points of `store/faults.ts` in it. */
declare const FAULTS_BUILT: boolean
/** Of package.json, written in by the build. */
declare const VERSION: string
