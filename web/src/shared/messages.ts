// Short messages that appear at the bottom and go by themselves; errors stay until they are closed.
import { create } from "zustand";

type Message = { id: number; kind: "info" | "error"; text: string };
type Store = { messages: Message[]; close: (id: number) => void };

let next = 1;
export const useMessages = create<Store>((set) => ({
  messages: [],
  close: (id) => set((s) => ({ messages: s.messages.filter((m) => m.id !== id) })),
}));

export function tell(kind: Message["kind"], text: string) {
  const id = next++;
  useMessages.setState((s) => ({
    messages: [...s.messages.filter((m) => m.text !== text), { id, kind, text }].slice(-4),
  }));
  if (kind === "info") setTimeout(() => useMessages.getState().close(id), 6000);
}
