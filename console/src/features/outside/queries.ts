import { useQuery } from "@tanstack/react-query";
import { call } from "../../lib/api";
import type { Outside, Pushed, Silence } from "../../lib/documents";
import { useAct } from "../../lib/query";

export const useOutsides = (all: boolean, device?: string) =>
  useQuery({ queryKey: ["outside", all, device], queryFn: () => call<Outside[]>("GET", `/outside?${new URLSearchParams({ ...(all ? { all: "true" } : {}), ...(device ? { device } : {}) }).toString()}`) });

export const useOutside = (number: number | undefined) =>
  useQuery({ queryKey: ["outside", number], queryFn: () => call<Outside>("GET", `/outside/${String(number)}?context=1`), enabled: number !== undefined, retry: false });

export const useAdopt = (number: number) => useAct((note: string) => call<Outside>("POST", `/outside/${String(number)}/adopt`, { note }));

export const usePushBack = (number: number) => useAct<undefined, Pushed>(() => call<Pushed>("POST", `/outside/${String(number)}/push-back`, {}));

export const useGoOn = (number: number) => useAct((devices: string[]) => call<Pushed>("POST", `/outside/${String(number)}/open`, { devices }));

export const useSilences = () => useQuery({ queryKey: ["silences"], queryFn: () => call<Silence[]>("GET", "/silences") });

export const useSilence = () => useAct((v: { device: string; path: string; note: string }) => call<Silence>("POST", "/silences", v));

export const useUnsilence = () => useAct((number: number) => call<undefined>("DELETE", `/silences/${String(number)}`));
