import { csv } from "./present";

type Rows = ReadonlyArray<ReadonlyArray<string | number>>;

/** Carries away what is seen as a table. */
export function Save({ name, rows }: { name: string; rows: () => Rows }) {
  const save = () => {
    const address = URL.createObjectURL(new Blob([csv(rows())], { type: "text/csv" }));
    const link = document.createElement("a");
    link.href = address;
    link.download = `${name}.csv`;
    link.click();
    URL.revokeObjectURL(address);
  };
  return (
    <button
      type="button"
      onClick={save}
      className="cursor-pointer text-sm text-faint underline decoration-line underline-offset-3 hover:text-ink"
      aria-label={`Save ${name} as CSV`}
    >
      save as CSV
    </button>
  );
}
