export { RootsPage } from "./RootsPage";
