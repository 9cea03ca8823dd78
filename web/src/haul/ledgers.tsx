// The ledger over parts, meshes, and the comparison on arrival.
import { useMemo, useState } from "react";
import { type ArrivalRow, api, type MeshRow, type Part } from "../api/client";
import { arrivalColumns, meshColumns, partColumns } from "./columns";
import { Ledger, type Sorting } from "./Ledger";
import { useView } from "./selection";

const NONE: ReadonlySet<number> = new Set();

export function PartsLedger(p: {
  sceneId: string;
  search: string;
  finding: string | null;
  mesh: number | null;
  light: boolean;
}) {
  const [sorting, setSorting] = useState<Sorting>({ by: "node", down: false });
  const { selected, select, look } = useView();
  const columns = useMemo(() => partColumns(p.light), [p.light]);
  return (
    <Ledger<Part>
      label="Parts"
      columns={columns}
      queryKey={["parts", p.sceneId, p.search, p.finding, p.mesh]}
      load={(q) => {
        if (p.search) q.set("search", p.search);
        if (p.finding) q.set("finding", p.finding);
        if (p.mesh !== null) q.set("mesh", String(p.mesh));
        return api.parts(p.sceneId, q);
      }}
      sorting={sorting}
      onSort={setSorting}
      idOf={(r) => r.source}
      selected={selected}
      onSelect={(ids, last, open) => {
        select(ids);
        if (open)
          look({
            source: last.source,
            centre: [last.x, last.y, last.z],
            size: Math.hypot(last.sizeX, last.sizeY, last.sizeZ) / 2,
          });
      }}
      empty="No part fits."
    />
  );
}

export function MeshesLedger(p: { sceneId: string; search: string; onOpen: (mesh: MeshRow) => void }) {
  const [sorting, setSorting] = useState<Sorting>({ by: "trianglesDrawn", down: true });
  return (
    <Ledger<MeshRow>
      label="Meshes"
      columns={meshColumns}
      queryKey={["meshes", p.sceneId, p.search]}
      load={(q) => {
        if (p.search) q.set("search", p.search);
        return api.meshes(p.sceneId, q);
      }}
      sorting={sorting}
      onSort={setSorting}
      idOf={(r) => -1 - r.mesh}
      selected={NONE}
      onSelect={(_, last) => p.onOpen(last)}
      empty="No mesh fits."
    />
  );
}

export function ArrivalLedger(p: { id: string; sceneId: string; search: string }) {
  const [sorting, setSorting] = useState<Sorting>({ by: "rank", down: false });
  const { selected, select, look } = useView();
  return (
    <Ledger<ArrivalRow>
      label="Comparison"
      columns={arrivalColumns}
      queryKey={["arrival", p.id, p.search]}
      load={(q) => {
        if (p.search) q.set("search", p.search);
        return api.arrivalRows(p.id, q);
      }}
      sorting={sorting}
      onSort={setSorting}
      idOf={(r) => r.sourceId}
      selected={selected}
      onSelect={async (ids, last, open) => {
        select(ids);
        if (!open) return;
        const page = await api.parts(
          p.sceneId,
          new URLSearchParams({ sources: String(last.sourceId), limit: "1" }),
        );
        const part = page.items[0];
        if (part)
          look({
            source: part.source,
            centre: [part.x, part.y, part.z],
            size: Math.hypot(part.sizeX, part.sizeY, part.sizeZ) / 2,
          });
      }}
      empty="No part fits."
    />
  );
}
