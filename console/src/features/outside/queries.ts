import { useQuery } from "@tanstack/react-query";
import { answer, api, given } from "../../lib/api";
import type { Pushed } from "../../lib/documents";
import { useAct } from "../../lib/query";

export const useOutsides = (all: boolean, device?: string) =>
  useQuery({
    queryKey: ["outside", all, device],
    queryFn: () => answer(api.GET("/outside", { params: { query: given({ all, device }) } })),
  });

export const useOutside = (number: number | undefined) =>
  useQuery({
    queryKey: ["outside", number],
    queryFn: () =>
      answer(api.GET("/outside/{number}", { params: { path: { number: number ?? 0 }, query: { context: 1 } } })),
    enabled: number !== undefined,
    retry: false,
  });

export const useAdopt = (number: number) =>
  useAct((note: string) =>
    answer(api.POST("/outside/{number}/adopt", { params: { path: { number } }, body: { note } })),
  );

export const usePushBack = (number: number) =>
  useAct<undefined, Pushed>(() =>
    answer(api.POST("/outside/{number}/push-back", { params: { path: { number } }, body: {} })),
  );

export const useGoOn = (number: number) =>
  useAct((devices: string[]) =>
    answer(api.POST("/outside/{number}/open", { params: { path: { number } }, body: { devices } })),
  );

export const useSilences = () => useQuery({ queryKey: ["silences"], queryFn: () => answer(api.GET("/silences")) });

export const useSilence = () =>
  useAct((v: { device: string; path: string; note: string }) => answer(api.POST("/silences", { body: v })));

export const useUnsilence = () =>
  useAct((number: number) => answer(api.DELETE("/silences/{number}", { params: { path: { number } } })));
