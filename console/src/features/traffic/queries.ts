import { useQuery } from "@tanstack/react-query";
import { call } from "../../lib/api";
import type { Expectation, FilterDoc, Filters, Traced } from "../../lib/documents";
import { readsDevice, useAct } from "../../lib/query";

export const useExpect = (change: number) => useAct((v: { line: string; place?: string }) => call<Expectation>("POST", `/changes/${String(change)}/expectations`, v));

export const useUnexpect = (change: number) => useAct((id: number) => call<undefined>("DELETE", `/changes/${String(change)}/expectations/${String(id)}`));

export const useAcceptEffect = (change: number) => useAct((v: { device: string; place: string }) => call<undefined>("POST", `/changes/${String(change)}/accept`, v));

export const useFilters = (device: string) =>
  useQuery({ queryKey: ["filters", device], queryFn: () => call<Filters>("GET", `/devices/${encodeURIComponent(device)}/filters`), retry: false, meta: readsDevice });

export const useFilter = (device: string, name: string | undefined) =>
  useQuery({ queryKey: ["filters", device, name], queryFn: () => call<FilterDoc>("GET", `/devices/${encodeURIComponent(device)}/filters/${encodeURIComponent(name ?? "")}`), enabled: name !== undefined, retry: false, meta: readsDevice });

export const useTrace = () => useAct((v: { way: string; packets: string }) => call<Traced>("GET", `/trace?${new URLSearchParams(v).toString()}`));
