import { type FormEvent, useState } from "react";
import { useNewPassword, useSignIn } from "../api/session";
import { cut } from "../lib/text";
import { Button } from "../ui/Button";
import { Mark } from "./Mark";

export function SignIn() {
  const signIn = useSignIn();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const send = (event: FormEvent) => {
    event.preventDefault();
    signIn.mutate({ name, password });
  };
  return (
    <main className="grid h-full place-items-center">
      <form onSubmit={send} className="w-80 space-y-4">
        <h1 className="flex items-center gap-3 text-3xl font-medium">
          <Mark /> Ecumen
        </h1>
        <p className="text-faint">What happens on this server, and why.</p>
        <Field label="Name" value={name} change={setName} kind="text" complete="username" />
        <Field
          label="Password"
          value={password}
          change={setPassword}
          kind="password"
          complete="current-password"
        />
        {signIn.isError && (
          <p role="alert" className="text-blocked">
            {signIn.error.message}
          </p>
        )}
        <Button type="submit" disabled={signIn.isPending} className="w-full">
          Sign in
        </Button>
      </form>
    </main>
  );
}

/** The first password is known to whoever made the account: it is good for choosing another one. */
export function NewPassword({ name }: { name: string }) {
  const choose = useNewPassword();
  const [old, setOld] = useState("");
  const [fresh, setFresh] = useState("");
  const send = (event: FormEvent) => {
    event.preventDefault();
    choose.mutate({ old, new: fresh });
  };
  return (
    <main className="grid h-full place-items-center">
      <form onSubmit={send} className="w-80 space-y-4">
        <h1 className="flex items-center gap-3 text-3xl font-medium">
          <Mark /> Welcome, {cut(name, 24)}
        </h1>
        <p className="text-faint">
          The password that you were given is known to others. Choose your own, of at least 8
          letters.
        </p>
        <Field
          label="Password so far"
          value={old}
          change={setOld}
          kind="password"
          complete="current-password"
        />
        <Field
          label="Your own"
          value={fresh}
          change={setFresh}
          kind="password"
          complete="new-password"
        />
        {choose.isError && (
          <p role="alert" className="text-blocked">
            {choose.error.message}
          </p>
        )}
        <Button type="submit" disabled={choose.isPending} className="w-full">
          Keep it
        </Button>
      </form>
    </main>
  );
}

interface FieldProps {
  label: string;
  value: string;
  change: (value: string) => void;
  kind: string;
  complete: string;
}

function Field({ label, value, change, kind, complete }: FieldProps) {
  return (
    <label className="block">
      <span className="text-sm text-faint">{label}</span>
      <input
        required
        type={kind}
        autoComplete={complete}
        value={value}
        onChange={(event) => change(event.target.value)}
        className="block w-full border-b border-ink bg-sheet px-2 py-1"
      />
    </label>
  );
}
