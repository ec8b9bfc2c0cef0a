import { useChanged } from "../api/query";
import { rightsCalls } from "./calls";
import { FormDialog, TextField } from "../ui/form";

/** ChangePassword changes one's own password. */
export function ChangePassword({ close }: { close: () => void }) {
  const changed = useChanged();
  return (
    <FormDialog
      title="Your password"
      description="At least ten characters; a few words are easier to remember than signs. Your sessions elsewhere end."
      start={{ old: "", now: "", again: "" }}
      run={({ old, now }) => rightsCalls.changePassword({ old, new: now })}
      done={() => changed({ kind: "access" })}
      close={close}
      ready={({ now, again }) => again === now}
      submit="Change it"
    >
      {({ now, again }) => (
        <>
          <TextField name="old" label="So far" type="password" autoComplete="current-password" required autoFocus />
          <TextField
            name="now"
            label="From now on"
            type="password"
            autoComplete="new-password"
            required
            minLength={10}
          />
          <TextField
            name="again"
            label="Once more"
            hint={again !== "" && again !== now ? "The two are not the same." : undefined}
            type="password"
            autoComplete="new-password"
            required
          />
        </>
      )}
    </FormDialog>
  );
}
