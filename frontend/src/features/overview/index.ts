export { OverviewPage } from "./OverviewPage";
