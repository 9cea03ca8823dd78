// A scene file dropped anywhere begins a new haul; folders come in with their tree.
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { api, type Problem } from "../api/client";
import { count } from "./format";
import { tell } from "./messages";

/** Collects files of a dropped folder, and stops once there are more than can be taken. */
async function readEntry(entry: FileSystemEntry, path: string, out: File[], most: number): Promise<void> {
  if (out.length > most) return;
  if (entry.isFile) {
    const file = await new Promise<File>((done, fail) => (entry as FileSystemFileEntry).file(done, fail));
    Object.defineProperty(file, "webkitRelativePath", { value: path + file.name, configurable: true });
    out.push(file);
    return;
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  for (;;) {
    const batch = await new Promise<FileSystemEntry[]>((done, fail) => reader.readEntries(done, fail));
    if (!batch.length) return;
    for (const child of batch) await readEntry(child, `${path}${entry.name}/`, out, most);
  }
}

async function filesOf(transfer: DataTransfer): Promise<File[]> {
  // what the browser hands over is gone after the first wait: it is taken in hand before
  const entries = [...transfer.items].map((i) => i.webkitGetAsEntry?.()).filter((e) => !!e);
  const plain = [...transfer.files];
  if (!entries.some((e) => e.isDirectory)) return plain;
  const { mostFiles } = await api.health();
  const out: File[] = [];
  for (const entry of entries) await readEntry(entry, "", out, mostFiles);
  if (out.length > mostFiles)
    throw new Error(
      `The folder holds more than ${count(mostFiles)} files; nothing was sent. Drop it as a zip, or only what the scene needs.`,
    );
  return out;
}

export function useBegin() {
  const navigate = useNavigate();
  const client = useQueryClient();
  return useMutation<void, Problem, File[]>({
    mutationFn: async (files) => {
      if (!files.length) return;
      const haul = await api.begin(files, "metre-y-up-right");
      client.setQueryData(["haul", haul.id], haul);
      client.invalidateQueries({ queryKey: ["hauls"] });
      navigate(`/hauls/${haul.id}/survey`);
    },
    onError: (problem) => tell("error", problem.message),
  });
}

export function DropAnywhere() {
  const begin = useBegin();
  const [over, setOver] = useState(false);
  const { mutate, isPending } = begin;
  useEffect(() => {
    let depth = 0;
    const hasFiles = (e: DragEvent) => e.dataTransfer?.types.includes("Files");
    const enter = (e: DragEvent) => {
      if (!hasFiles(e)) return;
      e.preventDefault();
      depth++;
      setOver(true);
    };
    const move = (e: DragEvent) => {
      if (hasFiles(e)) e.preventDefault();
    };
    const leave = () => {
      depth = Math.max(0, depth - 1);
      if (!depth) setOver(false);
    };
    const drop = async (e: DragEvent) => {
      if (!e.dataTransfer || !hasFiles(e)) return;
      e.preventDefault();
      depth = 0;
      setOver(false);
      try {
        mutate(await filesOf(e.dataTransfer));
      } catch (error) {
        tell("error", error instanceof Error ? error.message : "The files cannot be read.");
      }
    };
    window.addEventListener("dragenter", enter);
    window.addEventListener("dragover", move);
    window.addEventListener("dragleave", leave);
    window.addEventListener("drop", drop);
    return () => {
      window.removeEventListener("dragenter", enter);
      window.removeEventListener("dragover", move);
      window.removeEventListener("dragleave", leave);
      window.removeEventListener("drop", drop);
    };
  }, [mutate]);
  if (!over && !isPending) return null;
  return (
    <div className="pointer-events-none fixed inset-0 z-40 grid place-items-center bg-base-200/80">
      <div className="rounded-box border-2 border-dashed border-secondary bg-base-100 px-10 py-8 text-center">
        <p className="text-lg font-semibold">
          {isPending ? "Sending the files …" : "Drop to begin a new haul"}
        </p>
        <p className="mt-1 opacity-80">
          glTF, OpenUSD, COLLADA, IFC, OBJ, PLY, STL with their textures; several land in one tree
        </p>
      </div>
    </div>
  );
}
