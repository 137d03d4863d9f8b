export { FindingList } from "./FindingList";
export { ImpactMark } from "./ImpactMark";
export { OverviewPage } from "./OverviewPage";
export type { Impact } from "./queries";
