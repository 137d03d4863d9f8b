export { LogsPage } from "./LogsPage";
