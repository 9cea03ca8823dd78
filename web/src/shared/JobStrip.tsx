// What is being worked on right now, how far it is, and the way to stop it.
import { useMutation } from "@tanstack/react-query";
import { X } from "lucide-react";
import { api, type Job, type Problem } from "../api/client";
import { tell } from "./messages";

const WORDS: Record<string, string> = {
  import: "Reading the scene",
  supply: "Adding images",
  run: "Running the route",
  pack: "Packing",
  arrive: "Reading back",
};

export const working = (job: Job | null | undefined) => job?.state === "waiting" || job?.state === "running";

export function JobStrip({ job }: { job: Job }) {
  const cancel = useMutation<Job, Problem>({
    mutationFn: () => api.cancel(job.id),
    onError: (p) => tell("error", p.message),
  });
  const share = job.total > 0 ? job.done / job.total : undefined;
  return (
    <div
      className="flex h-8 min-w-0 items-center gap-3 rounded-field border rule bg-base-200 px-3"
      role="status"
      aria-label="Work in progress"
    >
      <span className="shrink-0 font-medium">{WORDS[job.kind]}</span>
      <span className="w-36 min-w-0 truncate opacity-80" title={job.title}>
        {job.state === "waiting" ? "waiting for a worker" : job.title}
      </span>
      <progress
        className="progress progress-secondary w-32"
        max={1}
        {...(share === undefined ? {} : { value: share })}
        aria-label="Progress"
      />
      <span className="w-10 text-right">{share === undefined ? "" : `${Math.round(share * 100)} %`}</span>
      <button
        type="button"
        className="btn btn-xs"
        onClick={() => cancel.mutate()}
        disabled={cancel.isPending || cancel.isSuccess}
      >
        <X size={12} /> {cancel.isSuccess ? "Stopping" : "Cancel"}
      </button>
    </div>
  );
}
