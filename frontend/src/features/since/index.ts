export { SincePage } from "./SincePage";
