import { ChevronDown, ChevronRight } from "lucide-react";
import { useState } from "react";
import { type Schemas } from "../api/client";
import { bytes } from "../ui/format";
import { Time } from "../ui/parts";
import { Checksums } from "../ui/tree";

/** UploadFiles lists the files of one publication, folded where there are several. */
export function UploadFiles({
  upload: u,
  headed,
  unfolded,
  fresh,
}: {
  upload: Schemas["Upload"];
  headed: boolean;
  unfolded: boolean;
  fresh: boolean;
}) {
  const [open, setOpen] = useState(unfolded);
  return (
    <div className={`border-b border-rule last:border-0 ${fresh ? "arrived" : ""}`}>
      {headed && (
        <button
          type="button"
          aria-expanded={open}
          onClick={() => setOpen(!open)}
          className="flex w-full cursor-pointer items-center gap-2 px-4 py-2 text-left text-sm hover:bg-wash/60"
        >
          {open ? <ChevronDown size={14} /> : <ChevronRight size={14} />}
          <span className="truncate font-mono">{u.name}</span>
          <span className="ml-auto text-xs whitespace-nowrap text-soft">
            {bytes(u.size)}, <Time at={u.publishedAt} /> by {u.publishedBy}
          </span>
        </button>
      )}
      {(open || !headed) && (
        <ul className={headed ? "pb-1 pl-5" : ""}>
          {u.files.map((f) => (
            <FileLine key={f.name} file={f} later={Date.parse(f.addedAt) > Date.parse(u.publishedAt) + 1000} />
          ))}
        </ul>
      )}
    </div>
  );
}

function FileLine({ file: f, later }: { file: Schemas["File"]; later: boolean }) {
  const [open, setOpen] = useState(false);
  return (
    <li className="px-4 py-1 text-sm">
      <div className="flex items-center gap-3">
        <a href={f.path} className="truncate font-mono">
          {f.name}
        </a>
        {later && (
          <span className="text-xs text-soft">
            added <Time at={f.addedAt} />
            {f.addedBy && ` by ${f.addedBy}`}
          </span>
        )}
        <span className="ml-auto text-soft tabular-nums whitespace-nowrap">{bytes(f.size)}</span>
        <button
          type="button"
          aria-expanded={open}
          className="cursor-pointer text-xs text-deep hover:underline"
          onClick={() => setOpen(!open)}
        >
          checksums
        </button>
      </div>
      {open && (
        <div className="my-1 rounded border border-rule bg-paper px-3 py-2">
          <Checksums sums={f.checksums} />
          {f.madeFrom && (
            <p className="mt-1 text-xs text-soft">
              restamped from a file whose SHA-256 is <code className="font-mono wrap-anywhere">{f.madeFrom}</code>
            </p>
          )}
        </div>
      )}
    </li>
  );
}
