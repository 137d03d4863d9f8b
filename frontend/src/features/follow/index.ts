export { FollowPage } from "./FollowPage";
export { Ladder } from "./pictures/Ladder";
export { type Claim, passageQuery } from "./queries";
