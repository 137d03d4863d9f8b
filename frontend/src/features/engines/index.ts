export { EnginesPage } from "./EnginesPage";
