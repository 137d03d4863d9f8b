export { Mending } from "./Mending";
export { type Way, Ways } from "./Ways";
