export { latestSurveyQuery } from "./queries";
export { SurveysPage } from "./SurveysPage";
