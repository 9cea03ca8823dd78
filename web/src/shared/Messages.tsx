import { X } from "lucide-react";
import { useMessages } from "./messages";

export function Messages() {
  const { messages, close } = useMessages();
  return (
    <div
      className="fixed bottom-3 left-1/2 z-50 flex w-[34rem] max-w-[90vw] -translate-x-1/2 flex-col gap-2"
      aria-live="polite"
    >
      {messages.map((m) => (
        <div
          key={m.id}
          role={m.kind === "error" ? "alert" : "status"}
          className={`flex items-start gap-3 rounded-box border px-3 py-2 shadow-lg ${
            m.kind === "error" ? "border-error bg-base-100 text-error" : "rule bg-base-100"
          }`}
        >
          <span className="min-w-0 grow break-words">{m.text}</span>
          {m.action && (
            <button
              type="button"
              className="btn btn-xs"
              onClick={() => {
                close(m.id);
                m.action?.run();
              }}
            >
              {m.action.word}
            </button>
          )}
          <button
            type="button"
            className="btn btn-ghost btn-xs"
            aria-label="Close message"
            onClick={() => close(m.id)}
          >
            <X size={14} />
          </button>
        </div>
      ))}
    </div>
  );
}
