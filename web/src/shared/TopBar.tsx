import { HelpCircle, Moon, Ruler, Sun } from "lucide-react";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { useShortcut } from "./keys";
import { useTheme } from "./theme";

export function TopBar({ children }: { children?: ReactNode }) {
  const { theme, toggle } = useTheme();
  useShortcut("theme", toggle);
  return (
    <header className="flex h-11 shrink-0 items-center gap-3 border-b rule bg-base-100 px-3">
      <Link
        to="/"
        className="flex shrink-0 items-center gap-2 font-semibold tracking-tight"
        aria-label="Tidy Caravan, all hauls"
      >
        <img src="/icon.svg" alt="" className="size-6" />
        <span>Tidy Caravan</span>
      </Link>
      <div className="flex min-w-0 grow items-center gap-3">{children}</div>
      <Link to="/destinations" className="btn btn-ghost btn-sm" title="Destinations and the yardstick">
        <Ruler size={16} /> <span className={children ? "sr-only" : ""}>Destinations</span>
      </Link>
      <button
        type="button"
        className="btn btn-ghost btn-sm btn-square"
        onClick={toggle}
        aria-label={theme === "paper" ? "Dusk theme" : "Paper theme"}
        title={theme === "paper" ? "Dusk theme (D)" : "Paper theme (D)"}
      >
        {theme === "paper" ? <Moon size={16} /> : <Sun size={16} />}
      </button>
      <button
        type="button"
        className="btn btn-ghost btn-sm btn-square"
        onClick={() => window.dispatchEvent(new Event("caravan-shortcuts"))}
        aria-label="Keyboard shortcuts"
        title="Keyboard (?)"
      >
        <HelpCircle size={16} />
      </button>
    </header>
  );
}
