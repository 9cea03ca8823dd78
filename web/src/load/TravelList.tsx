// The travel list: what goes along as it is, what is converted and into what, what stays behind and why.
import { useRef } from "react";
import type { Haul, Travel } from "../api/client";
import { count, plural } from "../shared/format";

const GROUPS: [Travel["verdict"], string, string][] = [
  ["travels", "→", "Travels as it is"],
  ["converted", "⇢", "Is converted"],
  ["behind", "⊣", "Stays behind"],
];

const PICTURES = ".png,.jpg,.jpeg,.webp,.bmp,.gif,.tga,.tif,.tiff";

type Props = { haul: Haul; busy: boolean; onFiles: (files: File[]) => void };

export function TravelList({ haul, busy, onFiles }: Props) {
  const source = haul.source;
  const input = useRef<HTMLInputElement>(null);
  if (!source) return null;
  const missing = source.notes.filter((n) => n.code === "texture.missing");
  return (
    <div className="flex flex-col gap-3 px-3 py-2">
      <div className="grid grid-cols-3 gap-4">
        {GROUPS.map(([verdict, sign, title]) => {
          const lines = source.travel.filter((t) => t.verdict === verdict);
          return (
            <section key={verdict} aria-label={title}>
              <h2 className="mb-1 flex items-baseline gap-2 border-b-2 border-base-content/60 pb-0.5 font-semibold">
                <span aria-hidden>{sign}</span> {title}
                <span className="ml-auto font-normal opacity-80">{plural(lines.length, "kind")}</span>
              </h2>
              {lines.length === 0 && <p className="opacity-80">nothing</p>}
              <ul>
                {lines.map((t) => (
                  <li key={`${t.kind}${t.into}${t.why}${t.tolerance}`} className="border-b rule py-0.5">
                    <span className="flex gap-2">
                      <span className="min-w-0 break-words">{t.kind}</span>
                      <span className="ml-auto shrink-0 font-semibold">{count(t.count)}</span>
                    </span>
                    {(t.into || t.why) && (
                      <span className="block leading-snug opacity-80">
                        {t.into && `into ${t.into}${t.tolerance ? `, within ${t.tolerance}` : ""}`}
                        {t.why}
                      </span>
                    )}
                  </li>
                ))}
              </ul>
            </section>
          );
        })}
      </div>
      {missing.length > 0 && (
        <section aria-label="Missing images" className="rounded-field border border-warning px-2 py-1.5">
          <div className="flex items-center gap-3">
            <h2 className="font-semibold text-warning">▲ Images that were not found</h2>
            <button
              type="button"
              className="btn btn-xs ml-auto"
              disabled={busy}
              onClick={() => input.current?.click()}
            >
              Supply them
            </button>
            <input
              ref={input}
              type="file"
              multiple
              hidden
              accept={PICTURES}
              aria-label="Missing images"
              onChange={(e) => {
                if (e.target.files?.length) onFiles([...e.target.files]);
                e.target.value = "";
              }}
            />
          </div>
          <ul className="list-disc pl-5">
            {missing.slice(0, 12).map((n) => (
              <li key={n.where + n.text}>{n.text}</li>
            ))}
            {missing.length > 12 && <li>and {missing.length - 12} more</li>}
          </ul>
          <p className="opacity-80">
            They are matched by file name; the model is not read again, and sets, steps and mends stay.
          </p>
        </section>
      )}
    </div>
  );
}
