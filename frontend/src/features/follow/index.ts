export { FollowPage } from "./FollowPage";
