import { Link } from "react-router";
import { api } from "../api/client";
import { CopyButton, Loaded, Panel, useQuery } from "./parts";

/** Snippets shows the text that sets up a client. */
export function Snippets({ repository, ecosystem, purl }: { repository: string; ecosystem: string; purl?: string }) {
  const query = useQuery({ queryKey: ["point", repository, ecosystem, purl ?? ""], queryFn: () => api.point(repository, ecosystem, purl) });
  return (
    <Loaded query={query}>
      {(all) => (
        <div className="grid grid-cols-[minmax(0,1fr)] gap-4 lg:grid-cols-[repeat(2,minmax(0,1fr))]">
          {all.map((s) => (
            <Panel
              key={s.title}
              title={<span className="text-sm">{s.title}</span>}
              aside={<span className="flex items-center gap-1 text-xs text-soft">in <code className="font-mono">{s.file}</code><CopyButton text={s.text} label={`Copy: ${s.title}`} /></span>}
            >
              <pre className="px-4 py-3 font-mono text-xs leading-5 wrap-anywhere whitespace-pre-wrap">{s.text}</pre>
            </Panel>
          ))}
          <p className="text-sm text-soft lg:col-span-2">
            <code className="font-mono">CRELVO_TOKEN</code> is a token of yours; <Link to="/tokens">make one</Link>. Keep it out of files that are shared.
          </p>
        </div>
      )}
    </Loaded>
  );
}
