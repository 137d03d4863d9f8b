export { BindingsPage } from "./BindingsPage";
