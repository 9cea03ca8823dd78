// The stations of the trail: one entry each says what it shows, what is open there and when it is done.
import type { ReactNode } from "react";
import type { Finding, Haul, Mend, PartSet, StepData, StepKind } from "../api/client";
import { LoadStation } from "../load/LoadStation";
import { plural } from "../shared/format";
import type { Lens } from "../view/lenses";
import { Findings } from "./Findings";
import { wanted, withMend } from "./mend";
import { ArriveStation, LightStation, MendStation, PackStation } from "./stations";

/** What the page hands to the station that is open. */
export type AtStation = {
  haul: Haul;
  busy: boolean;
  kinds: StepKind[];
  titles: Map<string, string>;
  findings: Finding[] | undefined;
  /** Why there are none: they could not be had. */
  unfound: string;
  chosen: string | null;
  onChoose: (finding: Finding | null) => void;
  onMend: (mend: Mend, those: boolean) => void;
  onLeave: (finding: Finding, because: string | null, those: boolean) => void;
  selected: number;
  onTape: (mend: Mend) => boolean;
  onSteps: (steps: StepData[]) => void;
  onSets: (sets: PartSet[]) => void;
  onFiles: (files: File[]) => void;
  onRemoveFile: (path: string) => void;
  onPack: (format: string) => void;
  onArrive: () => void;
};

export type StationDefinition = {
  id: string;
  /** What is open there, in a few words, and whether nothing is. */
  open: (haul: Haul) => string;
  done: (haul: Haul) => boolean;
  show: (at: AtStation) => ReactNode;
  /** How the view begins there. */
  lens: Lens;
  pair?: boolean;
  /** Scene of ledger and view: the source as it came, what the route made of it, or the arrived one beside it. */
  about: "source" | "result" | "arrival";
  /** Most of the height that its facts may take. */
  tall: string;
  /** Columns about lightmap sets instead of those about sharing. */
  light?: boolean;
};

export const STATIONS: readonly StationDefinition[] = [
  {
    id: "load",
    open: (haul) => (haul.source ? plural(haul.source.counts.parts, "part") : "no source"),
    done: (haul) => !!haul.source,
    show: ({ haul, busy, onSteps, onSets, onFiles, onRemoveFile }) => (
      <LoadStation key={haul.id} {...{ haul, busy, onSteps, onSets, onFiles, onRemoveFile }} />
    ),
    lens: "shaded",
    about: "source",
    tall: "max-h-[62%]",
  },
  {
    id: "survey",
    open: (haul) => (!haul.source ? "–" : haul.open.survey ? `${haul.open.survey} open` : "clear"),
    done: (haul) => !!haul.source && haul.open.survey === 0,
    show: ({ findings, unfound, busy, ...at }) => {
      if (findings) return <Findings {...{ findings, busy }} {...at} />;
      if (unfound)
        return (
          <p role="alert" className="p-3 text-error">
            {unfound}
          </p>
        );
      const waiting = at.haul.source ? "Loading findings …" : "There is nothing to survey yet.";
      return (
        <p role="status" className="p-3 opacity-80">
          {busy ? "The scene is being read …" : waiting}
        </p>
      );
    },
    lens: "shaded",
    about: "result",
    tall: "max-h-[46%]",
  },
  {
    id: "mend",
    open: ({ run, open }) => {
      if (!run) return "not run";
      if (run.stale) return "changed since run";
      return open.mend ? `${open.mend} to mend` : "mended";
    },
    done: (haul) => !!haul.run && !haul.run.stale && haul.open.mend === 0,
    show: ({ haul, kinds, busy, onSteps }) => <MendStation {...{ haul, kinds, busy, onSteps }} />,
    lens: "shaded",
    about: "result",
    tall: "max-h-[44%]",
  },
  {
    id: "light",
    open: ({ source, result, open }) => {
      if (!source) return "–";
      if (!(result ?? source).counts.parts) return "nothing to light";
      return open.light ? "UV set missing" : "UV sets there";
    },
    done: ({ source, result, open }) => !!(result ?? source)?.counts.parts && open.light === 0,
    show: ({ haul, busy, kinds, onSteps }) => (
      <LightStation
        {...{ haul, busy, kinds, onSteps }}
        onAdd={() => onSteps(withMend(haul.route.steps ?? [], wanted(kinds, "lightmap_uvs", {}), kinds))}
      />
    ),
    lens: "texel-density",
    about: "result",
    tall: "max-h-[56%]",
    light: true,
  },
  {
    id: "pack",
    open: (haul) => (haul.package ? `${haul.package.format} packed` : "not packed"),
    done: (haul) => !!haul.package,
    show: ({ haul, busy, onPack }) => <PackStation key={haul.id} {...{ haul, busy, onPack }} />,
    lens: "shaded",
    about: "result",
    tall: "max-h-[44%]",
  },
  {
    id: "arrive",
    open: ({ arrival, open }) => {
      if (!arrival) return "not proven";
      return arrival.report.ok ? "✓ as it left" : `✗ ${open.arrive} wrong`;
    },
    done: (haul) => !!haul.arrival?.report.ok,
    show: ({ haul, busy, onArrive }) => <ArriveStation {...{ haul, busy, onArrive }} />,
    lens: "shaded",
    pair: true,
    about: "arrival",
    tall: "max-h-[44%]",
  },
];

/** The station of an address; the survey for an unknown one. */
export const stationOf = (id: string | undefined): StationDefinition =>
  STATIONS.find((s) => s.id === id) ?? (STATIONS[1] as StationDefinition);
