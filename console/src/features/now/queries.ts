import { useQuery } from "@tanstack/react-query";
import { call } from "../../lib/api";
import type { Attention } from "../../lib/documents";
import { useAct } from "../../lib/query";

export const useAttention = () =>
  useQuery({ queryKey: ["attention"], queryFn: () => call<Attention>("GET", "/attention"), refetchInterval: 30_000 });

export const useLookedAfter = () => useAct((change: number) => call("DELETE", `/lost-holds/${String(change)}`));
