import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { publishingCalls } from "../publishing/calls";
import { repositoriesQueries } from "../repositories/calls";
import { retentionCalls } from "./calls";
import { Dialog } from "../ui/dialog";
import { Button, ErrorNote, useQuery } from "../ui/parts";
import { FormDialog, TextField } from "../ui/form";

/** TakeOut withdraws a version or removes it, by whoever may, and tells the way back. */
export function TakeOut({ group: g }: { group: Schemas["VersionGroup"] }) {
  const repository = useQuery(repositoriesQueries.repository(g.repository));
  const [open, setOpen] = useState<"" | "withdraw" | "remove">("");
  const may = (what: "publish" | "remove") => repository.data?.kind === "house" && repository.data.may.includes(what);
  if (!may("publish") && !may("remove")) return null;
  return (
    <div className="flex flex-wrap gap-2 border-t border-rule px-4 py-2">
      {may("publish") &&
        (g.withdrawn ? <Unmark g={g} /> : <Button onClick={() => setOpen("withdraw")}>Withdraw…</Button>)}
      {may("remove") && <Button onClick={() => setOpen("remove")}>Remove…</Button>}
      {open === "withdraw" && <Withdraw g={g} close={() => setOpen("")} />}
      <Dialog
        open={open === "remove"}
        onOpenChange={(to) => setOpen(to ? "remove" : "")}
        title={`Remove ${g.version} from ${g.repository}?`}
        description="Clients do not find it any more, from now on. It can be brought back within 14 days; after that its bytes are gone, and its name cannot be used for other bytes."
      >
        <Remove g={g} />
      </Dialog>
    </div>
  );
}

function useMark(g: Schemas["VersionGroup"]) {
  const changed = useChanged();
  return useMutation({
    mutationFn: (mark: { reason?: string; undo?: boolean }) =>
      publishingCalls.withdraw(g.repository, { purl: g.purl, ...mark }),
    onSuccess: () => changed({ kind: "package", repository: g.repository }),
  });
}

function Unmark({ g }: { g: Schemas["VersionGroup"] }) {
  const mark = useMark(g);
  return (
    <>
      <Button disabled={mark.isPending} onClick={() => mark.mutate({ undo: true })}>
        It may be used again
      </Button>
      {mark.error && <ErrorNote error={mark.error} />}
    </>
  );
}

function Withdraw({ g, close }: { g: Schemas["VersionGroup"]; close: () => void }) {
  const mark = useMark(g);
  return (
    <FormDialog
      title={`Withdraw ${g.version}?`}
      description="Clients are told not to use it any more; whoever asks for exactly this version still gets it. The mark can be taken away again."
      start={{ reason: "" }}
      run={mark.mutateAsync}
      close={close}
      look="danger"
      submit="Withdraw it"
    >
      <TextField
        name="reason"
        label="Reason"
        hint="It is shown to whoever uses it, where their client can."
        maxLength={1000}
      />
    </FormDialog>
  );
}

function Remove({ g }: { g: Schemas["VersionGroup"] }) {
  const changed = useChanged();
  const navigate = useNavigate();
  const remove = useMutation({
    mutationFn: () => retentionCalls.removeVersion(g.repository, g.purl),
    onSuccess: async (sweep) => {
      void navigate(`/sweeps/${sweep.id}`); // which has the way back
      await changed({ kind: "package", repository: g.repository }, { kind: "sweep" });
    },
  });
  return (
    <>
      {remove.error && (
        <div className="mb-3">
          <ErrorNote error={remove.error} />
        </div>
      )}
      <Button look="danger" disabled={remove.isPending} onClick={() => remove.mutate()}>
        Remove it
      </Button>
    </>
  );
}
