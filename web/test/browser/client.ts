// What tests run in a browser: the package, and the protocol of the tests.
import * as kestrelWind from "kestrel-wind";
import * as quay from "../../build/generated/quay.js";

(globalThis as any).tested = { ...kestrelWind, quay };
