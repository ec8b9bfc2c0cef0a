import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { rightsCalls } from "./calls";
import { Field, TextInput } from "../ui/dialog";
import { Button, ErrorNote, usePageTitle } from "../ui/parts";

export function SignInPage() {
  usePageTitle("Sign in");
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const signIn = useMutation({
    mutationFn: () => rightsCalls.signIn({ name, password }),
    onSuccess: (me) => queries.setQueryData(["me"], me),
  });
  return (
    <main className="mx-auto mt-[14vh] max-w-sm">
      <div className="mb-6 flex items-center gap-3">
        <img src="/mark.svg" alt="" className="size-11" />
        <div>
          <h1 className="text-2xl font-semibold tracking-tight">Crelvo</h1>
          <p className="text-sm text-soft">Every package you make or use.</p>
        </div>
      </div>
      <form
        className="rounded-lg border border-rule bg-sheet p-5"
        onSubmit={(e) => {
          e.preventDefault();
          signIn.mutate();
        }}
      >
        <Field label="Name">
          <TextInput
            name="name"
            autoComplete="username"
            autoFocus
            required
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </Field>
        <Field label="Password">
          <TextInput
            name="password"
            type="password"
            autoComplete="current-password"
            required
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </Field>
        {signIn.error && (
          <div className="mb-3">
            <ErrorNote error={signIn.error} />
          </div>
        )}
        <Button type="submit" look="strong" className="w-full justify-center" disabled={signIn.isPending}>
          Sign in
        </Button>
      </form>
      <p className="mt-4 text-sm text-soft">
        The first user is <code className="font-mono">admin</code>; its password was shown when the service first
        started, and stands in the file <code className="font-mono">first-sign-in</code> of its data folder.
      </p>
    </main>
  );
}
