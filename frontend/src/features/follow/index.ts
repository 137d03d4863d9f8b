export { FollowPage } from "./FollowPage";
export { type Claim, passageQuery } from "./queries";
