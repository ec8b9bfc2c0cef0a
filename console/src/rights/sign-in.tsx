import { useQueryClient } from "@tanstack/react-query";
import { rightsCalls, rightsQueries } from "./calls";
import { usePageTitle } from "../ui/parts";
import { Form, TextField } from "../ui/form";

export function SignInPage() {
  usePageTitle("Sign in");
  const queries = useQueryClient();
  return (
    <main className="mx-auto mt-[14vh] max-w-sm">
      <div className="mb-6 flex items-center gap-3">
        <img src="/mark.svg" alt="" className="size-11" />
        <div>
          <h1 className="text-2xl font-semibold tracking-tight">Crelvo</h1>
          <p className="text-sm text-soft">Every package you make or use.</p>
        </div>
      </div>
      <Form
        className="rounded-lg border border-rule bg-sheet p-5 [&_button]:w-full [&_button]:justify-center"
        start={{ name: "", password: "" }}
        run={rightsCalls.signIn}
        done={(me) => queries.setQueryData(rightsQueries.me().queryKey, me)}
        submit="Sign in"
      >
        <TextField name="name" label="Name" autoComplete="username" autoFocus required />
        <TextField name="password" label="Password" type="password" autoComplete="current-password" required />
      </Form>
      <p className="mt-4 text-sm text-soft">
        The first user is <code className="font-mono">admin</code>; its password was shown when the service first
        started, and stands in the file <code className="font-mono">first-sign-in</code> of its data folder.
      </p>
    </main>
  );
}
