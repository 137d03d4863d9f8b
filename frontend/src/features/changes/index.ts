export { ChangesPage } from "./ChangesPage";
