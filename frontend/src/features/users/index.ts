export { UsersPage } from "./UsersPage";
