import { useQuery } from "@tanstack/react-query";
import { answer, api } from "../../lib/api";
import { useAct } from "../../lib/query";

export const useSchedule = () => useQuery({ queryKey: ["schedule"], queryFn: () => answer(api.GET("/schedule")) });

export const useUnschedule = () =>
  useAct((id: number) => answer(api.DELETE("/schedule/{id}", { params: { path: { id } } })));
