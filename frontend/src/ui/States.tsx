import type { ReactNode } from "react";

/** The states that every place has beside its own: waiting, nothing there, failed. */
export function Waiting({ children }: { children: ReactNode }) {
  return (
    <p role="status" className="p-8 text-faint">
      {children}
    </p>
  );
}

export function Note({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="max-w-xl p-8">
      <h2 className="mb-2 text-xl font-medium">{title}</h2>
      <div className="space-y-2 text-faint">{children}</div>
    </section>
  );
}

export function Failed({ error, retry }: { error: Error; retry?: () => void }) {
  return (
    <section role="alert" className="max-w-xl p-8">
      <h2 className="mb-2 text-xl font-medium text-blocked">This did not work</h2>
      <p className="mb-3">{error.message}</p>
      {retry && (
        <button type="button" className="cursor-pointer underline" onClick={retry}>
          Try again
        </button>
      )}
    </section>
  );
}
