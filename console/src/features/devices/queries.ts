import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { call } from "../../lib/api";
import type { Carried, Config, Device, HostKey, Reservation, StoreDifference, Visitor } from "../../lib/documents";
import { devicePath } from "../../lib/paths";
import { readsDevice, useAct } from "../../lib/query";

export const useDevices = () => useQuery({ queryKey: ["devices"], queryFn: () => call<Device[]>("GET", "/devices") });

export const useDevice = (name: string) =>
  useQuery({ queryKey: ["devices", name], queryFn: () => call<Device>("GET", `/devices/${encodeURIComponent(name)}`) });

export const useConfig = (name: string, from: string) =>
  useQuery({
    queryKey: ["config", name, from],
    queryFn: () => call<Config>("GET", `/devices/${encodeURIComponent(name)}/config?from=${encodeURIComponent(from)}`),
    retry: false,
    meta: readsDevice,
  });

export const useReserve = (device: string) =>
  useAct((v: { reason: string; seconds: number }) => call<Reservation>("POST", `/devices/${encodeURIComponent(device)}/reservation`, v));

export const useRelease = (device: string) =>
  useAct(() => call<undefined>("DELETE", `/devices/${encodeURIComponent(device)}/reservation`));

export const useAskFor = (device: string) =>
  useAct((text: string) => call<Reservation>("POST", `/devices/${encodeURIComponent(device)}/reservation/asks`, { text }));

/** Two of a device's configurations compared; asked for only while wanted. */
export const useStoreDifference = (name: string, from: string, to: string, wanted: boolean) =>
  useQuery({
    queryKey: ["difference", name, from, to],
    queryFn: () => call<StoreDifference>("GET", `${devicePath(name)}/difference?from=${from}&to=${to}`),
    enabled: wanted,
    retry: false,
    staleTime: 0,
    meta: readsDevice,
  });

export const useVisitors = (name: string, wanted: boolean) =>
  useQuery({ queryKey: ["sessions", name], queryFn: () => call<Visitor[]>("GET", `${devicePath(name)}/sessions`), enabled: wanted, retry: false, meta: readsDevice });

/** What is done to a device beside commits. */
export const useCare = (name: string) =>
  useAct((v: { method: "POST" | "PATCH" | "DELETE" | "GET"; path: string; body?: unknown }) => call<unknown>(v.method, `${devicePath(name)}${v.path}`, v.body));

export const useCarry = () => useAct((v: { from: string; place: string; onto: string }) => call<Carried>("POST", "/carry", v));

export const useReplaceBox = (name: string) =>
  useAct((v: { name: string; address: string; account: string; password?: string; privateKey?: string }) => call<Device>("POST", `${devicePath(name)}/replace`, v));

/** The host key that what stands at a path of the API shows now; asked for by hand. */
export const useHostKey = (of: string) =>
  useQuery({ queryKey: ["host-key", of], queryFn: () => call<HostKey>("GET", `${of}/host-key`), enabled: false, retry: false });

/** Accepts it; what is answered is the key as it is accepted now. */
export function useTrust(of: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (fingerprint: string) => call<HostKey>("POST", `${of}/trust`, { fingerprint }),
    onSuccess: (_, fingerprint) => {
      client.setQueryData<HostKey>(["host-key", of], (k) => k && { ...k, accepted: fingerprint });
      void client.invalidateQueries();
    },
  });
}
