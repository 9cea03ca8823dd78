// Short messages that appear at the bottom and go by themselves; errors stay until they are closed. One may offer an
// action, such as taking back what it tells of; it stays longer.
import { create } from "zustand";

type Action = { word: string; run: () => void };
type Message = { id: number; kind: "info" | "error"; text: string; action?: Action | undefined };
type Store = { messages: Message[]; close: (id: number) => void };

let next = 1;
export const useMessages = create<Store>((set) => ({
  messages: [],
  close: (id) => set((s) => ({ messages: s.messages.filter((m) => m.id !== id) })),
}));

export function tell(kind: Message["kind"], text: string, action?: Action) {
  const id = next++;
  useMessages.setState((s) => ({
    messages: [...s.messages.filter((m) => m.text !== text), { id, kind, text, action }].slice(-4),
  }));
  if (kind === "info") setTimeout(() => useMessages.getState().close(id), action ? 20_000 : 6000);
}
