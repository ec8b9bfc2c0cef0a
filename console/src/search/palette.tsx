import { keepPreviousData } from "@tanstack/react-query";
import { Box, Folder } from "lucide-react";
import { useMemo, useState } from "react";
import { useNavigate } from "react-router";
import { repositoriesQueries } from "../repositories/calls";
import { Combobox, type Item } from "../ui/combobox";
import { Dialog } from "../ui/dialog";
import { coordinates, packagePath } from "../ui/format";
import { useQuery } from "../ui/parts";
import { searchQueries } from "./calls";

type Target = Item & { to: string };

/** Palette finds repositories and packages as one types. */
export function Palette({ open, onOpenChange }: { open: boolean; onOpenChange: (open: boolean) => void }) {
  const [typed, setTyped] = useState("");
  const text = typed.trim();
  const navigate = useNavigate();
  const repositories = useQuery(repositoriesQueries.repositories());
  const found = useQuery({
    ...searchQueries.newest(text, 12),
    enabled: text !== "",
    placeholderData: keepPreviousData,
  });
  const targets = useMemo(() => {
    const all: Target[] = (repositories.data ?? [])
      .filter((r) => r.name.includes(text.toLowerCase()))
      .map((r) => ({
        key: `repository ${r.name}`,
        text: r.name,
        note: r.description,
        to: `/repositories/${r.name}`,
        mark: <Folder size={15} className="shrink-0 text-soft" />,
      }));
    if (!text) return all;
    const box = <Box size={15} className="shrink-0 text-soft" />;
    for (const p of found.data?.packages ?? [])
      if (!all.some((t) => t.key === p.purl))
        all.push({ key: p.purl, text: coordinates(p), note: p.description, to: packagePath(p.purl), mark: box });
    const q = encodeURIComponent(text);
    all.push({ key: "all", text: `All packages with “${text}”`, to: `/search?q=${q}`, mark: box });
    return all;
  }, [repositories.data, found.data, text]);
  return (
    <Dialog
      open={open}
      onOpenChange={onOpenChange}
      title="Find"
      description="Type a part of a repository's or package's name; arrow keys choose, Enter opens."
    >
      <Combobox
        autoFocus
        always
        first
        label="Search"
        placeholder="berth planner"
        text={typed}
        onText={setTyped}
        items={targets}
        onTake={(target) => {
          onOpenChange(false);
          void navigate(target.to);
        }}
        none="Nothing has that name."
      />
    </Dialog>
  );
}
