// The sign-in page of a server that asks for an access key: the key once, then a cookie keeps the door open.
import { useMutation } from "@tanstack/react-query";
import { KeyRound } from "lucide-react";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, type Problem } from "../api/client";

/** Only addresses of this server, so that nobody is led elsewhere by a link. */
function backTo(given: string | null) {
  if (!given || !URL.canParse(given, window.location.origin)) return "/";
  const there = new URL(given, window.location.origin);
  return there.origin === window.location.origin ? there.pathname + there.search : "/";
}

export function SignIn() {
  const [query] = useSearchParams();
  const [key, setKey] = useState("");
  const enter = useMutation<void, Problem>({
    mutationFn: () => api.signIn(key),
    onSuccess: () => window.location.assign(backTo(query.get("back"))),
  });
  return (
    <main className="grid h-full place-items-center px-6">
      <form
        className="flex w-full max-w-sm flex-col gap-3 rounded-box border rule bg-base-100 p-5"
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate();
        }}
      >
        <div className="flex items-center gap-2 text-base font-semibold">
          <img src="/icon.svg" alt="" className="size-6" /> Tidy Caravan
        </div>
        <p className="opacity-80">
          This server is open to the network and asks for its access key. Whoever started it knows it.
        </p>
        <label className="input w-full">
          <KeyRound size={15} aria-hidden />
          <input
            type="password"
            value={key}
            autoComplete="current-password"
            aria-label="Access key"
            placeholder="Access key"
            onChange={(e) => setKey(e.target.value)}
          />
        </label>
        {enter.error && (
          <p role="alert" className="text-error">
            {enter.error.message}
          </p>
        )}
        <button type="submit" className="btn btn-primary" disabled={!key || enter.isPending}>
          {enter.isPending ? "Signing in …" : "Sign in"}
        </button>
      </form>
    </main>
  );
}
