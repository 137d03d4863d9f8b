import { Link } from "react-router";
import { type Addition, useAdd } from "../api/plans";
import { plural } from "../lib/text";
import { Button } from "./Button";

/** Puts what mends something into the plan that is being written. */
export function AddToPlan({ what, label = "Add to the plan" }: { what: Addition; label?: string }) {
  const add = useAdd();
  if (add.isSuccess) {
    return (
      <p role="status" className="mt-1.5 text-sm">
        In the plan{" "}
        <Link to={`/changes?plan=${add.data.id}`} className="underline">
          {add.data.title}
        </Link>
        , {plural(add.data.steps.length, "step")} so far.
      </p>
    );
  }
  return (
    <div className="mt-1.5">
      <Button onClick={() => add.mutate(what)} disabled={add.isPending}>
        {label}
      </Button>
      {add.isError && (
        <span role="alert" className="ml-3 text-sm text-blocked">
          {add.error.message}
        </span>
      )}
    </div>
  );
}
