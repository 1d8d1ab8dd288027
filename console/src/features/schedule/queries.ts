import { useQuery } from "@tanstack/react-query";
import { call } from "../../lib/api";
import type { Due } from "../../lib/documents";
import { useAct } from "../../lib/query";

export const useSchedule = () => useQuery({ queryKey: ["schedule"], queryFn: () => call<Due[]>("GET", "/schedule") });

export const useUnschedule = () => useAct((id: number) => call<undefined>("DELETE", `/schedule/${String(id)}`));
