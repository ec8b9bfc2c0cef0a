import { useChanged } from "../api/query";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { rightsCalls } from "./calls";
import { Dialog, Field, TextInput } from "../ui/dialog";
import { Button, ErrorNote } from "../ui/parts";

/** ChangePassword changes one's own password. */
export function ChangePassword({ close }: { close: () => void }) {
  const changed = useChanged();
  const [old, setOld] = useState("");
  const [now, setNow] = useState("");
  const [again, setAgain] = useState("");
  const change = useMutation({
    mutationFn: () => rightsCalls.changePassword({ old, new: now }),
    onSuccess: () => {
      close();
      return changed({ kind: "access" });
    },
  });
  const differ = again !== "" && again !== now;
  return (
    <Dialog
      open
      onOpenChange={(open) => open || close()}
      title="Your password"
      description="At least ten characters; a few words are easier to remember than signs. Your sessions elsewhere end."
    >
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (!differ) change.mutate();
        }}
      >
        <Field label="So far">
          <TextInput
            name="old"
            type="password"
            autoComplete="current-password"
            required
            autoFocus
            value={old}
            onChange={(e) => setOld(e.target.value)}
          />
        </Field>
        <Field label="From now on">
          <TextInput
            name="new"
            type="password"
            autoComplete="new-password"
            required
            minLength={10}
            value={now}
            onChange={(e) => setNow(e.target.value)}
          />
        </Field>
        <Field label="Once more" hint={differ ? "The two are not the same." : undefined}>
          <TextInput
            name="again"
            type="password"
            autoComplete="new-password"
            required
            value={again}
            onChange={(e) => setAgain(e.target.value)}
          />
        </Field>
        {change.error && (
          <div className="mb-3">
            <ErrorNote error={change.error} />
          </div>
        )}
        <div className="flex justify-end gap-2">
          <Button onClick={close}>Cancel</Button>
          <Button type="submit" look="strong" disabled={differ || change.isPending}>
            Change it
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
