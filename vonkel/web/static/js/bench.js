// The page of one character.
import { Bench } from "./app/bench.js";
import "./app/commands.js";
import "./stations/all.js";
import "./tools/all.js";
import { one } from "./widgets/html.js";
import { say } from "./widgets/toasts.js";

const { dataset } = one("script[data-number]");
const bench = new Bench(Number(dataset.number), dataset.station, dataset.mesh);
window.vonkel = bench; // for tests and the curious
bench.refresh().catch(say);
