import { reportFaultsTo } from "../../core/formats/reader-faults";

// What a reader trips over that is no damage is a fault of the bench: a test that brings it about fails.
reportFaultsTo((reader, error) => {
  throw new Error(`the reader “${reader}” failed: ${error.stack}`, { cause: error });
});
