// What stands in the way of work, told on every page while it lasts: no worker, no answer.
// It pushes the page down instead of covering what can be pressed.
import { TriangleAlert } from "lucide-react";
import { useHealth } from "../api/hooks";

export function Trouble() {
  const health = useHealth();
  const text = health.error ? health.error.message : health.data?.trouble;
  if (!text) return null;
  return (
    <div
      role="alert"
      className="flex shrink-0 items-start gap-2 border-b border-error bg-base-100 px-3 py-1.5"
    >
      <TriangleAlert size={16} className="mt-0.5 shrink-0 text-error" aria-hidden />
      <span>{text}</span>
    </div>
  );
}
