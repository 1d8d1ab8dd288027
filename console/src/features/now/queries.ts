import { useQuery } from "@tanstack/react-query";
import { answer, api } from "../../lib/api";
import { useAct } from "../../lib/query";

export const useAttention = () => useQuery({ queryKey: ["attention"], queryFn: () => answer(api.GET("/attention")) });

export const useLookedAfter = () =>
  useAct((change: number) => answer(api.DELETE("/lost-holds/{change}", { params: { path: { change } } })));
