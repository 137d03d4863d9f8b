export { NewSitePage } from "./NewSitePage";
