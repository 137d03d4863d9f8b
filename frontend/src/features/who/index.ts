export { WhoPage } from "./WhoPage";
