import { useQuery } from "@tanstack/react-query";
import { answer, api } from "../../lib/api";
import { readsDevice, useAct } from "../../lib/query";

export const useExpect = (change: number) =>
  useAct((v: { line: string; place?: string }) =>
    answer(api.POST("/changes/{number}/expectations", { params: { path: { number: change } }, body: v })),
  );

export const useUnexpect = (change: number) =>
  useAct((id: number) =>
    answer(api.DELETE("/changes/{number}/expectations/{id}", { params: { path: { number: change, id } } })),
  );

export const useAcceptEffect = (change: number) =>
  useAct((v: { device: string; place: string }) =>
    answer(api.POST("/changes/{number}/accept", { params: { path: { number: change } }, body: v })),
  );

export const useFilters = (device: string) =>
  useQuery({
    queryKey: ["filters", device],
    queryFn: () => answer(api.GET("/devices/{name}/filters", { params: { path: { name: device } } })),
    retry: false,
    meta: readsDevice,
  });

export const useFilter = (device: string, name: string | undefined) =>
  useQuery({
    queryKey: ["filters", device, name],
    queryFn: () =>
      answer(api.GET("/devices/{name}/filters/{filter}", { params: { path: { name: device, filter: name ?? "" } } })),
    enabled: name !== undefined,
    retry: false,
    meta: readsDevice,
  });

export const useTrace = () =>
  useAct((v: { way: string; packets: string }) => answer(api.GET("/trace", { params: { query: v } })));
