import { useQuery } from "@tanstack/react-query";
import { answer, api, given, ifTag } from "../../lib/api";
import { useAct } from "../../lib/query";

export const useStencils = () => useQuery({ queryKey: ["stencils"], queryFn: () => answer(api.GET("/stencils")) });

export const useStencil = (name: string | undefined, device?: string) =>
  useQuery({
    queryKey: ["stencils", name, device],
    queryFn: () =>
      answer(api.GET("/stencils/{name}", { params: { path: { name: name ?? "" }, query: given({ device }) } })),
    enabled: name !== undefined,
    retry: false,
  });

export const useSaveStencil = () =>
  useAct((v: { name: string; text: string; note: string; from: number | undefined }) =>
    answer(
      api.PUT("/stencils/{name}", {
        params: { path: { name: v.name }, header: ifTag(v.from === undefined ? undefined : `v${String(v.from)}`) },
        body: { text: v.text, note: v.note },
      }),
    ),
  );

export const useShared = () => useQuery({ queryKey: ["shared"], queryFn: () => answer(api.GET("/shared")) });

export const useSaveShared = () =>
  useAct((v: { name: string; items: string[] }) =>
    answer(api.PUT("/shared/{name}", { params: { path: { name: v.name } }, body: { items: v.items } })),
  );
