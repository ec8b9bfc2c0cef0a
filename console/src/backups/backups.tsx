import { useQueryClient } from "@tanstack/react-query";
import { HardDriveDownload } from "lucide-react";
import { useState } from "react";
import { type Schemas } from "../api/client";
import { backupCalls, backupQueries } from "./calls";
import { bytes } from "../ui/format";
import { FormDialog, TextField } from "../ui/form";
import { Button, Loaded, Panel, Time, useQuery } from "../ui/parts";
import { type Column, Table } from "../ui/table";

type Backup = Schemas["Backup"];

const columns: Column<Backup>[] = [
  { head: "Began", by: (b) => b.begunAt, cell: (b) => <Time at={b.begunAt} /> },
  {
    head: "To",
    by: (b) => b.target,
    cell: (b) => (
      <>
        <span className="wrap-anywhere">{b.target}</span>
        {b.name && <span className="block font-mono text-xs text-soft">{b.name}</span>}
      </>
    ),
  },
  { head: "By", from: "sm", by: (b) => b.by, cell: (b) => b.by },
  { head: "Files", right: true, from: "sm", by: (b) => b.files, cell: (b) => b.files },
  { head: "Size", right: true, by: (b) => b.bytes, cell: (b) => bytes(b.bytes) },
  { head: "Of it new", right: true, by: (b) => b.newBytes, cell: (b) => bytes(b.newBytes) },
  {
    head: "State",
    by: (b) => b.state,
    cell: (b) => (
      <span className={b.state === "failed" || b.said ? "text-bad" : ""}>
        {b.state}
        {b.said && <span className="block text-xs">{b.said}</span>}
      </span>
    ),
  },
];

/** Backups lists the last backups that the server made, and begins one. */
export function Backups() {
  const [asking, setAsking] = useState(false);
  const queries = useQueryClient();
  const query = useQuery({
    ...backupQueries.backups(),
    refetchInterval: (q) => (q.state.data?.some((b) => b.state === "under way") ? 1000 : 30_000),
  });
  return (
    <Panel
      title="Backups"
      aside={
        <Button onClick={() => setAsking(true)}>
          <HardDriveDownload size={15} /> Make one…
        </Button>
      }
    >
      <Loaded query={query}>
        {(all) =>
          all.length === 0 ? (
            <p className="px-4 py-3 text-sm text-soft">
              None was made. With the setting backup-to the server makes one every day by itself.
            </p>
          ) : (
            <Table name="Backups" dense rows={all.slice(0, 10)} rowKey={(b) => b.id} columns={columns} />
          )
        }
      </Loaded>
      {asking && (
        <FormDialog
          title="Make a backup"
          description="All records and bytes as of this moment, while everything goes on. Of the bytes only those are copied that are not there from before."
          start={{ target: "" }}
          run={({ target }) => backupCalls.begin(target.trim() ? { target: target.trim() } : {})}
          done={() => queries.invalidateQueries({ queryKey: ["backups"] })}
          close={() => setAsking(false)}
          submit="Make it"
        >
          {() => (
            <TextField
              name="target"
              label="To"
              autoFocus
              placeholder="/mnt/backup/crelvo"
              hint="The whole path of a folder on the server, or s3+https://HOST/BUCKET/PREFIX. Empty: where the server makes its own."
            />
          )}
        </FormDialog>
      )}
    </Panel>
  );
}
