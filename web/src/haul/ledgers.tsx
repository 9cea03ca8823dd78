// The ledger over parts, their groups, meshes, materials, findings, and the comparison on arrival.
import { useMemo } from "react";
import {
  type ArrivalRow,
  api,
  type Finding,
  type Group,
  type MaterialRow,
  type MeshRow,
  type Part,
} from "../api/client";
import {
  arrivalColumns,
  findingColumns,
  groupColumns,
  materialColumns,
  meshColumns,
  partColumns,
} from "./columns";
import { Ledger } from "./Ledger";
import { nameOf, useView } from "./selection";
import { type Filter, filterQuery, useShown } from "./shown";

const NONE: ReadonlyMap<string, unknown> = new Map();
const around = (p: Part) => ({
  source: p.source,
  centre: [p.x, p.y, p.z] as [number, number, number],
  size: Math.hypot(p.sizeX, p.sizeY, p.sizeZ) / 2,
});
type Common = { sceneId: string; search: string; filter: Filter | null };
const narrowed = (q: URLSearchParams, search: string, filter: Filter | null) => {
  if (search) q.set("search", search);
  for (const [key, value] of Object.entries(filterQuery(filter))) q.set(key, value);
  return q;
};

export function PartsLedger({ sceneId, search, filter, light }: Common & { light: boolean }) {
  const { sorting, sort } = useShown();
  const { selected, select, look } = useView();
  const columns = useMemo(() => partColumns(light), [light]);
  return (
    <Ledger<Part>
      label="Parts"
      columns={columns}
      queryKey={["parts", sceneId, search, filter]}
      load={(q) => api.parts(sceneId, narrowed(q, search, filter))}
      sorting={sorting.parts}
      onSort={(s) => sort("parts", s)}
      idOf={nameOf}
      selected={selected}
      onSelect={(ids, rows, last, open) => {
        select(
          ids,
          rows.map((r) => [nameOf(r), r.source]),
        );
        if (open) look(around(last));
      }}
      empty={search || filter ? "No part fits." : "There are no parts."}
    />
  );
}

/** Layers, or one level of the tree; a row leads to its parts or to the next level. */
export function GroupsLedger({ sceneId, search, filter, by }: Common & { by: "tree" | "layer" }) {
  const { sorting, sort, show } = useShown();
  const rows = by === "tree" ? "tree" : "layers";
  const under = by === "tree" && filter?.by === "under" ? filter.value : "";
  return (
    <Ledger<Group>
      label={by === "tree" ? "Tree" : "Layers"}
      columns={groupColumns(by)}
      queryKey={["groups", by, sceneId, search, filter]}
      load={(q) => {
        q.set("by", by);
        return api.groups(sceneId, narrowed(q, search, filter));
      }}
      sorting={sorting[rows]}
      onSort={(s) => sort(rows, s)}
      idOf={() => ""}
      selected={NONE}
      onSelect={(_, __, group) => {
        if (by === "layer") {
          show({
            rows: "parts",
            filter: { by: "layer", value: group.name, text: `layer ${group.name || "(none)"}` },
          });
          return;
        }
        if (!group.name) {
          show({ rows: "parts" });
          return;
        }
        const path = under ? `${under}/${group.name}` : group.name;
        show({ rows: group.below ? "tree" : "parts", filter: { by: "under", value: path, text: path } });
      }}
      empty={
        by === "layer"
          ? "The source has no layers."
          : search || filter
            ? "No branch fits."
            : "There is no tree."
      }
    />
  );
}

export function MeshesLedger({ sceneId, search }: Omit<Common, "filter">) {
  const { sorting, sort, show } = useShown();
  return (
    <Ledger<MeshRow>
      label="Meshes"
      columns={meshColumns}
      queryKey={["meshes", sceneId, search]}
      load={(q) => api.meshes(sceneId, narrowed(q, search, null))}
      sorting={sorting.meshes}
      onSort={(s) => sort("meshes", s)}
      idOf={(r) => String(r.mesh)}
      selected={NONE}
      onSelect={(_, __, m) =>
        show({
          rows: "parts",
          filter: { by: "mesh", value: String(m.mesh), text: `mesh ${m.name || m.mesh}` },
        })
      }
      empty={search ? "No mesh fits." : "There are no meshes."}
    />
  );
}

export function MaterialsLedger({ sceneId, search }: Omit<Common, "filter">) {
  const { sorting, sort, show } = useShown();
  return (
    <Ledger<MaterialRow>
      label="Materials"
      columns={materialColumns}
      queryKey={["materials", sceneId, search]}
      load={(q) => api.materials(sceneId, narrowed(q, search, null))}
      sorting={sorting.materials}
      onSort={(s) => sort("materials", s)}
      idOf={(r) => String(r.material)}
      selected={NONE}
      onSelect={(_, __, m) =>
        show({
          rows: "parts",
          filter: { by: "material", value: String(m.material), text: `material ${m.name}` },
        })
      }
      empty={search ? "No material fits." : "There are no materials."}
    />
  );
}

const WEIGHT: Record<Finding["severity"], number> = { error: 0, warning: 1, info: 2 };

export function FindingsLedger({
  findings,
  unfound,
  search,
  onChoose,
}: {
  findings: Finding[];
  /** Why they could not be had; no reason where they could. */
  unfound: string;
  search: string;
  onChoose: (finding: Finding) => void;
}) {
  const { sorting, sort } = useShown();
  const by = sorting.findings;
  const rows = useMemo(() => {
    const fitting = findings.filter((f) =>
      `${f.title} ${f.text}`.toLowerCase().includes(search.toLowerCase()),
    );
    const key = (f: Finding) =>
      by.by === "parts"
        ? f.partCount
        : by.by === "severity"
          ? WEIGHT[f.severity]
          : by.by === "title"
            ? f.title
            : findings.indexOf(f);
    fitting.sort((a, b) => (key(a) < key(b) ? -1 : key(a) > key(b) ? 1 : 0) * (by.down ? -1 : 1));
    return fitting;
  }, [findings, search, by]);
  return (
    <Ledger<Finding>
      label="Findings of the scene"
      columns={findingColumns}
      queryKey={["findings-rows", rows, unfound]}
      load={async (q) => {
        if (unfound) throw new Error(unfound);
        const offset = Number(q.get("offset"));
        return { total: rows.length, items: rows.slice(offset, offset + Number(q.get("limit"))) };
      }}
      sorting={by}
      onSort={(s) => sort("findings", s)}
      idOf={(f) => f.id}
      selected={NONE}
      onSelect={(_, __, f) => onChoose(f)}
      empty="Nothing found."
    />
  );
}

export function ArrivalLedger(p: { id: string; sceneId: string; search: string }) {
  const { sorting, sort } = useShown();
  const { selected, select, look } = useView();
  return (
    <Ledger<ArrivalRow>
      label="Comparison"
      columns={arrivalColumns}
      queryKey={["arrival", p.id, p.search]}
      load={(q) => api.arrivalRows(p.id, narrowed(q, p.search, null))}
      sorting={sorting.arrival}
      onSort={(s) => sort("arrival", s)}
      idOf={(r) => r.identity || `#${r.node}`}
      selected={selected}
      onSelect={async (ids, rows, last, open) => {
        select(
          ids,
          rows.map((r) => [r.identity || `#${r.node}`, r.sourceId]),
        );
        if (!open) return;
        const page = await api.parts(
          p.sceneId,
          new URLSearchParams({ sources: String(last.sourceId), limit: "1" }),
        );
        const part = page.items[0];
        if (part) look(around(part));
      }}
      empty={p.search ? "No part fits." : "There are no parts."}
    />
  );
}
