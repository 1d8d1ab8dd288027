import { useQuery } from "@tanstack/react-query";
import { call } from "../../lib/api";
import type { Saved, Shared, Stencil } from "../../lib/documents";
import { useAct } from "../../lib/query";

export const useStencils = () => useQuery({ queryKey: ["stencils"], queryFn: () => call<Stencil[]>("GET", "/stencils") });

export const useStencil = (name: string | undefined, device?: string) =>
  useQuery({
    queryKey: ["stencils", name, device],
    queryFn: () => call<Stencil>("GET", `/stencils/${encodeURIComponent(name ?? "")}${device ? `?device=${encodeURIComponent(device)}` : ""}`),
    enabled: name !== undefined,
    retry: false,
  });

export const useSaveStencil = () =>
  useAct((v: { name: string; text: string; note: string; from: number | undefined }) =>
    call<Saved>("PUT", `/stencils/${encodeURIComponent(v.name)}`, { text: v.text, note: v.note }, v.from === undefined ? undefined : `v${String(v.from)}`));

export const useShared = () => useQuery({ queryKey: ["shared"], queryFn: () => call<Shared[]>("GET", "/shared") });

export const useSaveShared = () =>
  useAct((v: { name: string; items: string[] }) => call<Saved>("PUT", `/shared/${encodeURIComponent(v.name)}`, { items: v.items }));
