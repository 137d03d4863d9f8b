export { ContextsPage } from "./ContextsPage";
