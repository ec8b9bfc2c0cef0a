import { keepPreviousData } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, type Schemas } from "../api/client";
import { TextInput } from "../ui/dialog";
import { bytes, coordinates, packagePath } from "../ui/format";
import { Empty, Loaded, Panel, rowKeys, Time, useArrivals, usePageTitle, useQuery } from "../ui/parts";

export function SearchPage() {
  usePageTitle("Packages");
  const [params, setParams] = useSearchParams();
  const text = params.get("q") ?? "";
  const query = useQuery({
    queryKey: ["search", text, "", 100],
    queryFn: () => api.search(text, undefined, 100),
    placeholderData: keepPreviousData,
  });
  return (
    <Panel
      title={<span className="text-lg">Packages</span>}
      aside={
        <div className="w-72 max-w-full">
          <TextInput autoFocus aria-label="Words of the name" placeholder="Words of the name" value={text} onChange={(e) => setParams(e.target.value ? { q: e.target.value } : {}, { replace: true })} />
        </div>
      }
    >
      <Loaded query={query}>{(found) => <PackageTable found={found} />}</Loaded>
    </Panel>
  );
}

export function PackageTable({ found, within }: { found: Schemas["PackageList"]; within?: boolean }) {
  const key = (p: Schemas["PackageLine"]) => `${p.repository} ${p.purl} ${p.changedAt}`;
  const fresh = useArrivals(found.packages.map(key));
  if (found.packages.length === 0) {
    return <Empty title="No package has that name">Try fewer or shorter words. A group and a name may stand in any order: <em>berth skerry</em>.</Empty>;
  }
  return (
    <div className="relative overflow-x-auto" onKeyDown={rowKeys}>
      <table className="w-full text-left">
        <thead className="text-xs text-soft">
          <tr className="border-b border-rule">
            <th className="px-4 py-2 font-medium">Package</th>
            {!within && <th className="px-4 py-2 font-medium">Repository</th>}
            <th className="px-4 py-2 font-medium">Last arrival</th>
            <th className="hidden px-4 py-2 text-right font-medium md:table-cell">Versions</th>
            <th className="hidden px-4 py-2 text-right font-medium md:table-cell">Size</th>
            <th className="hidden px-4 py-2 font-medium sm:table-cell">When, and by whom</th>
          </tr>
        </thead>
        <tbody>
          {found.packages.map((p) => (
            <tr key={key(p)} className={`border-b border-rule last:border-0 hover:bg-wash/50 ${fresh.has(key(p)) ? "arrived" : ""}`}>
              <td className="px-4 py-2">
                <Link data-row to={packagePath(p.purl)} className="font-medium">{coordinates(p)}</Link>
                <div className="max-w-md truncate text-xs text-soft">{p.description}</div>
              </td>
              {!within && <td className="px-4 py-2 text-sm"><Link to={`/repositories/${p.repository}`}>{p.repository}</Link></td>}
              <td className="px-4 py-2 font-mono text-sm whitespace-nowrap">{p.latest}</td>
              <td className="hidden px-4 py-2 text-right tabular-nums md:table-cell">{p.versions.toLocaleString("en")}</td>
              <td className="hidden px-4 py-2 text-right tabular-nums whitespace-nowrap md:table-cell">{bytes(p.bytes)}</td>
              <td className="hidden px-4 py-2 text-sm text-soft sm:table-cell"><Time at={p.changedAt} /> by {p.publishedBy}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {found.more && <p className="px-4 py-2 text-sm text-soft">There are more; add a word to narrow it down.</p>}
    </div>
  );
}
