import { useNavigate } from "react-router";
import { comparePath, type Side } from "./calls";
import { Choice } from "../ui/dialog";

/** CompareWith leads to what tells a version from another one. */
export function CompareWith({ version, others }: { version: Side; others: (Side & { title: string })[] }) {
  const navigate = useNavigate();
  const compared = others.filter((o) => o.purl !== version.purl);
  if (compared.length === 0) return null;
  return (
    <div className="w-60">
      <Choice
        label="Compare with another version"
        value=""
        onChange={(at) => void navigate(comparePath(compared[Number(at)]!, version))}
        options={[
          ["", "Compare with…"],
          ...compared.map((o, i): [string, string] => [String(i), `${o.title} in ${o.repository}`]),
        ]}
      />
    </div>
  );
}
