import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, api } from "../../lib/api";
import type { HostKey, NewDevice, Settings } from "../../lib/documents";
import { readsDevice, useAct } from "../../lib/query";

export const useDevices = () => useQuery({ queryKey: ["devices"], queryFn: () => answer(api.GET("/devices")) });

export const useDevice = (name: string) =>
  useQuery({
    queryKey: ["devices", name],
    queryFn: () => answer(api.GET("/devices/{name}", { params: { path: { name } } })),
  });

/** What a device holds by a place to read from; a revision is on record, all else is read from the device. */
export const useConfig = (name: string, from: string | undefined) =>
  useQuery({
    queryKey: ["config", name, from],
    queryFn: () =>
      answer(
        api.GET("/devices/{name}/config", { params: { path: { name }, query: from === undefined ? {} : { from } } }),
      ),
    enabled: from !== undefined,
    retry: false,
    meta: readsDevice,
  });

export const useReserve = (device: string) =>
  useAct((v: { reason: string; seconds: number }) =>
    answer(api.POST("/devices/{name}/reservation", { params: { path: { name: device } }, body: v })),
  );

export const useRelease = (device: string) =>
  useAct(() => answer(api.DELETE("/devices/{name}/reservation", { params: { path: { name: device } } })));

export const useAskFor = (device: string) =>
  useAct((text: string) =>
    answer(api.POST("/devices/{name}/reservation/asks", { params: { path: { name: device } }, body: { text } })),
  );

/** Two of a device's configurations compared; asked for only while wanted. */
export const useStoreDifference = (name: string, from: string, to: string, wanted: boolean) =>
  useQuery({
    queryKey: ["difference", name, from, to],
    queryFn: () => answer(api.GET("/devices/{name}/difference", { params: { path: { name }, query: { from, to } } })),
    enabled: wanted,
    retry: false,
    staleTime: 0,
    meta: readsDevice,
  });

export const useVisitors = (name: string, wanted: boolean) =>
  useQuery({
    queryKey: ["sessions", name],
    queryFn: () => answer(api.GET("/devices/{name}/sessions", { params: { path: { name } } })),
    enabled: wanted,
    retry: false,
    meta: readsDevice,
  });

/** What is done to a device beside commits. */
export type CareAct = "save" | "restart" | "clock" | "clear" | { settings: Settings } | { endSession: string };

export const useCare = (name: string) =>
  useAct((v: CareAct): Promise<unknown> => {
    const params = { path: { name } };
    switch (v) {
      case "save":
        return answer(api.POST("/devices/{name}/save", { params }));
      case "restart":
        return answer(api.POST("/devices/{name}/restart", { params }));
      case "clock":
        return answer(api.GET("/devices/{name}/clock", { params }));
      case "clear":
        return answer(api.DELETE("/devices/{name}/candidate", { params }));
    }
    if ("settings" in v) return answer(api.PATCH("/devices/{name}", { params, body: v.settings }));
    return answer(api.DELETE("/devices/{name}/sessions/{id}", { params: { path: { name, id: v.endSession } } }));
  });

export const useCarry = () =>
  useAct((v: { from: string; place: string; onto: string }) => answer(api.POST("/carry", { body: v })));

export const useReplaceBox = (name: string) =>
  useAct((v: { name: string; address: string; account: string; password?: string; privateKey?: string }) =>
    answer(api.POST("/devices/{name}/replace", { params: { path: { name } }, body: v })),
  );

/** What shows a host key. */
export type KeyOf = { device: string } | { archive: string };

/** The host key that it shows now; asked for by hand. */
export const useHostKey = (of: KeyOf) =>
  useQuery({
    queryKey: ["host-key", of],
    queryFn: () =>
      "device" in of
        ? answer(api.GET("/devices/{name}/host-key", { params: { path: { name: of.device } } }))
        : answer(api.GET("/archives/{name}/host-key", { params: { path: { name: of.archive } } })),
    enabled: false,
    retry: false,
  });

/** Accepts it; what is answered is the key as it is accepted now. */
export function useTrust(of: KeyOf) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (fingerprint: string) =>
      "device" in of
        ? answer(api.POST("/devices/{name}/trust", { params: { path: { name: of.device } }, body: { fingerprint } }))
        : answer(api.POST("/archives/{name}/trust", { params: { path: { name: of.archive } }, body: { fingerprint } })),
    onSuccess: (_, fingerprint) => {
      client.setQueryData<HostKey>(["host-key", of], (k) => k && { ...k, accepted: fingerprint });
      void client.invalidateQueries();
    },
  });
}

export const addDevice = (d: NewDevice) => answer(api.POST("/devices", { body: d }));

export const useAddDevice = () => useAct(addDevice);

/** Reads a text by a device's modules; nothing is staged. */
export const useReadText = (name: string) =>
  useAct((v: { text: string; as: string }) =>
    answer(api.POST("/devices/{name}/text", { params: { path: { name } }, body: v })),
  );
