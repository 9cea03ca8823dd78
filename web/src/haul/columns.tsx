// Columns of the ledger for parts, meshes and the comparison on arrival.
import type { ReactNode } from "react";
import type { ArrivalRow, Finding, Group, MaterialRow, MeshRow, Part } from "../api/client";
import { count, metres, small } from "../shared/format";
import { Bar, type Column } from "./Ledger";

const Warn = ({ text }: { text: string }) => (
  <span className="text-error" title={text}>
    ▲ {text}
  </span>
);

/** Letters that fit a name column in one line; longer names have two lines of smaller ones before they are cut. */
const ONE_LINE = 21;

const Name = ({ name, full, after }: { name: string; full?: string; after?: ReactNode }) => (
  <span
    title={full ?? name}
    className={
      name.length > ONE_LINE ? "line-clamp-2 whitespace-normal text-[11px] leading-3 wrap-anywhere" : ""
    }
  >
    {name.trim() ? <bdi>{name}</bdi> : <i className="opacity-80">{name ? "a blank name" : "unnamed"}</i>}
    {after}
  </span>
);

const size = (p: Part) => Math.max(p.sizeX, p.sizeY, p.sizeZ);

export function partColumns(light: boolean): Column<Part>[] {
  const columns: Column<Part>[] = [
    {
      id: "name",
      header: "Part",
      width: "minmax(9rem,2fr)",
      sort: "name",
      cell: ({ row }) => (
        <Name
          name={row.original.name}
          full={row.original.path}
          after={row.original.hidden && <span className="ml-1 opacity-80">(hidden)</span>}
        />
      ),
    },
    {
      id: "mesh",
      header: "Mesh",
      width: "minmax(6rem,1.2fr)",
      sort: "meshName",
      cell: ({ row }) => (
        <span title={row.original.meshName}>{row.original.meshName || `mesh ${row.original.mesh}`}</span>
      ),
    },
    {
      id: "instances",
      header: "Shared",
      width: "4.2rem",
      sort: "instances",
      number: true,
      hint: "Parts that use this mesh",
      cell: ({ row }) => (row.original.instances > 1 ? `× ${count(row.original.instances)}` : "once"),
    },
    {
      id: "triangles",
      header: "Triangles",
      width: "6.6rem",
      sort: "triangles",
      number: true,
      cell: ({ row }) => (
        <Bar value={row.original.triangles} most={20_000} text={count(row.original.triangles)} />
      ),
    },
    {
      id: "size",
      header: "Size",
      width: "4.8rem",
      sort: "size",
      number: true,
      hint: "Longest side in the world",
      cell: ({ row }) => metres(size(row.original)),
    },
    {
      id: "materials",
      header: "Mat.",
      width: "3rem",
      sort: "materials",
      number: true,
      hint: "Materials on it, one draw call each",
      cell: ({ row }) => <span title={row.original.materialNames}>{row.original.materials}</span>,
    },
    {
      id: "uv",
      header: "UV sets",
      width: "3.9rem",
      sort: "uvSets",
      number: true,
      cell: ({ row }) => (row.original.uvSets === 0 ? <Warn text="0" /> : row.original.uvSets),
    },
    {
      id: "scale",
      header: "Scale",
      width: "4.2rem",
      sort: "scale",
      number: true,
      hint: "Node scale; 1 when it is in the mesh",
      cell: ({ row }) => {
        const s = row.original.scale;
        const text = `${row.original.mirrored ? "⇋ " : ""}${Math.abs(s - 1) < 1e-5 ? "1" : s.toPrecision(3)}`;
        return s > 9 || s < 0.11 ? <Warn text={text} /> : text;
      },
    },
    {
      id: "findings",
      header: "Found",
      width: "3.2rem",
      sort: "findings",
      number: true,
      hint: "Findings about this part, those left as they are as well",
      cell: ({ row }) => (row.original.findings ? <b>{row.original.findings}</b> : "–"),
    },
  ];
  return light ? columns.filter((c) => c.id !== "scale" && c.id !== "materials") : columns;
}

export const meshColumns: Column<MeshRow>[] = [
  {
    id: "name",
    header: "Mesh",
    width: "minmax(9rem,1.6fr)",
    sort: "name",
    cell: ({ row }) => <Name name={row.original.name || `mesh ${row.original.mesh}`} />,
  },
  {
    id: "instances",
    header: "Parts",
    width: "4.6rem",
    sort: "instances",
    number: true,
    cell: ({ row }) => count(row.original.instances),
  },
  {
    id: "triangles",
    header: "Triangles",
    width: "6rem",
    sort: "triangles",
    number: true,
    cell: ({ row }) => count(row.original.triangles),
  },
  {
    id: "drawn",
    header: "Drawn",
    width: "7rem",
    sort: "trianglesDrawn",
    number: true,
    hint: "Triangles over all parts",
    cell: ({ row }) => (
      <Bar value={row.original.trianglesDrawn} most={1_000_000} text={count(row.original.trianglesDrawn)} />
    ),
  },
  {
    id: "calls",
    header: "Draw calls",
    width: "6.4rem",
    sort: "drawCalls",
    number: true,
    hint: "Separate → instanced",
    cell: ({ row }) => `${count(row.original.drawCalls)} → ${row.original.materials}`,
  },
  {
    id: "uv",
    header: "UV sets",
    width: "4.2rem",
    sort: "uvSets",
    number: true,
    cell: ({ row }) => (row.original.uvSets === 0 ? <Warn text="0" /> : row.original.uvSets),
  },
  {
    id: "materials",
    header: "Materials",
    width: "minmax(6rem,1fr)",
    sort: "materials",
    cell: ({ row }) => <span title={row.original.materialNames}>{row.original.materialNames}</span>,
  },
];

export const groupColumns = (by: "tree" | "layer"): Column<Group>[] => [
  {
    id: "name",
    header: by === "tree" ? "Branch" : "Layer",
    width: "minmax(9rem,2fr)",
    sort: "name",
    cell: ({ row }) => (
      <Name
        name={row.original.name}
        after={
          <>
            {!row.original.name && (
              <i className="opacity-80">{by === "tree" ? "the node itself" : "no layer"}</i>
            )}
            {row.original.below && " ▸"}
          </>
        }
      />
    ),
  },
  {
    id: "parts",
    header: "Parts",
    width: "4.6rem",
    sort: "parts",
    number: true,
    cell: ({ row }) => count(row.original.parts),
  },
  {
    id: "meshes",
    header: "Meshes",
    width: "4.8rem",
    sort: "meshes",
    number: true,
    hint: "Unique meshes among them",
    cell: ({ row }) => count(row.original.meshes),
  },
  {
    id: "triangles",
    header: "Triangles",
    width: "7.4rem",
    sort: "triangles",
    number: true,
    hint: "Over all parts",
    cell: ({ row }) => (
      <Bar value={row.original.triangles} most={1_000_000} text={count(row.original.triangles)} />
    ),
  },
  {
    id: "calls",
    header: "Draw calls",
    width: "6.4rem",
    sort: "drawCalls",
    number: true,
    hint: "Separate → instanced",
    cell: ({ row }) => `${count(row.original.drawCalls)} → ${count(row.original.drawCallsInstanced)}`,
  },
  {
    id: "findings",
    header: "Found",
    width: "4rem",
    sort: "findings",
    number: true,
    hint: "Findings over all parts, those left as they are as well",
    cell: ({ row }) => (row.original.findings ? <b>{count(row.original.findings)}</b> : "–"),
  },
];

export const materialColumns: Column<MaterialRow>[] = [
  {
    id: "name",
    header: "Material",
    width: "minmax(8rem,1.4fr)",
    sort: "name",
    cell: ({ row }) => (
      <span className="flex items-center gap-1.5">
        <span
          aria-hidden
          className="size-3 shrink-0 rounded-full border border-base-content/60"
          style={{ background: colour(row.original.baseColor) }}
        />
        <span className="truncate" title={row.original.name}>
          {row.original.name}
        </span>
      </span>
    ),
  },
  {
    id: "parts",
    header: "Parts",
    width: "4.4rem",
    sort: "parts",
    number: true,
    cell: ({ row }) => (row.original.parts ? count(row.original.parts) : <Warn text="unused" />),
  },
  {
    id: "meshes",
    header: "Meshes",
    width: "4.8rem",
    sort: "meshes",
    number: true,
    cell: ({ row }) => count(row.original.meshes),
  },
  {
    id: "triangles",
    header: "Triangles",
    width: "7.4rem",
    sort: "triangles",
    number: true,
    hint: "Of this material, over all parts",
    cell: ({ row }) => (
      <Bar value={row.original.triangles} most={1_000_000} text={count(row.original.triangles)} />
    ),
  },
  {
    id: "textures",
    header: "Textures",
    width: "minmax(7rem,1.2fr)",
    sort: "textures",
    cell: ({ row }) =>
      row.original.missing.length ? (
        <Warn text={`${row.original.missing.join(", ")} not found`} />
      ) : (
        <span title={row.original.textures.join(", ")}>{row.original.textures.join(", ") || "–"}</span>
      ),
  },
  {
    id: "sides",
    header: "Sides",
    width: "7.2rem",
    cell: ({ row }) =>
      `${row.original.doubleSided ? "both" : "one"}${row.original.alpha === "opaque" ? "" : ", see-through"}`,
  },
];

/** Linear factors as a screen colour (sRGB, IEC 61966-2-1). */
function colour(linear: readonly number[]) {
  const encode = (v: number) =>
    Math.round(255 * (v <= 0.0031308 ? 12.92 * v : 1.055 * Math.max(v, 0) ** (1 / 2.4) - 0.055));
  return `rgb(${encode(linear[0] ?? 1)} ${encode(linear[1] ?? 1)} ${encode(linear[2] ?? 1)})`;
}

export const findingColumns: Column<Finding>[] = [
  {
    id: "severity",
    header: "Severity",
    width: "5.4rem",
    sort: "severity",
    cell: ({ row }) =>
      row.original.severity === "error" ? (
        <Warn text="error" />
      ) : row.original.severity === "warning" ? (
        "△ warning"
      ) : (
        "· info"
      ),
  },
  {
    id: "title",
    header: "Finding",
    width: "minmax(8rem,1fr)",
    sort: "title",
    cell: ({ row }) => <span title={row.original.title}>{row.original.title}</span>,
  },
  {
    id: "text",
    header: "What was measured",
    width: "minmax(10rem,2fr)",
    cell: ({ row }) => <span title={row.original.text}>{row.original.text}</span>,
  },
  {
    id: "parts",
    header: "Parts",
    width: "4.4rem",
    sort: "parts",
    number: true,
    cell: ({ row }) => (row.original.partCount ? count(row.original.partCount) : "scene"),
  },
];

export const arrivalColumns: Column<ArrivalRow>[] = [
  {
    id: "path",
    header: "Part",
    width: "minmax(9.2rem,2fr)",
    sort: "path",
    cell: ({ row: { original: r } }) => (
      <Name name={r.name || (r.path.split("/").at(-1) ?? "")} full={r.path} />
    ),
  },
  {
    id: "faults",
    header: "Verdict",
    width: "minmax(6.4rem,2.4fr)",
    cell: ({ row }) =>
      row.original.faults ? (
        <Warn text={row.original.told || row.original.faults} />
      ) : (
        <span className="text-success">✓ as it left</span>
      ),
  },
  {
    id: "position",
    header: "Position mm",
    width: "5.2rem",
    sort: "positionMm",
    number: true,
    cell: ({ row }) => small(row.original.positionMm, 4),
  },
  {
    id: "size",
    header: "Size ×",
    width: "4.6rem",
    sort: "sizeRatio",
    number: true,
    cell: ({ row }) => row.original.sizeRatio.toFixed(5),
  },
  {
    id: "rotation",
    header: "Rotation °",
    width: "4.6rem",
    sort: "rotationDeg",
    number: true,
    cell: ({ row }) => small(row.original.rotationDeg, 4),
  },
  {
    id: "surface",
    header: "Surface mm",
    width: "5.2rem",
    sort: "surfaceMm",
    number: true,
    hint: "Largest distance between corners that belong together",
    cell: ({ row }) => small(row.original.surfaceMm, 4),
  },
  {
    id: "normals",
    header: "Normals °",
    width: "4.6rem",
    sort: "normalDeg",
    number: true,
    cell: ({ row }) => small(row.original.normalDeg, 3),
  },
  {
    id: "pivot",
    header: "Pivot",
    width: "5.6rem",
    sort: "pivotMm",
    number: true,
    cell: ({ row }) =>
      row.original.pivotMm >= 1000
        ? metres(row.original.pivotMm / 1000)
        : `${small(row.original.pivotMm, 3)} mm`,
  },
];
