import { useQuery } from "@tanstack/react-query";
import { ApiError, answer, api } from "../../lib/api";
import type { FactorAdded, Shown } from "../../lib/documents";
import { useAct } from "../../lib/query";

/** Who is signed in; null where nobody is. */
export function useSession() {
  return useQuery({
    queryKey: ["me"],
    queryFn: async () => {
      try {
        return await answer(api.GET("/me"));
      } catch (err) {
        if (err instanceof ApiError && err.problem.status === 401) return null;
        throw err;
      }
    },
    staleTime: 60_000,
  });
}

export const useWays = () =>
  useQuery({ queryKey: ["ways"], queryFn: () => answer(api.GET("/login/ways")), retry: false });

export const useAccounts = (wanted: boolean) =>
  useQuery({ queryKey: ["accounts"], queryFn: () => answer(api.GET("/accounts")), enabled: wanted });

export const useAddAccount = () =>
  useAct((v: { name: string; password: string; may: string[] }) => answer(api.POST("/accounts", { body: v })));

export const useSetAccount = () =>
  useAct((v: { name: string; may?: string[]; password?: string }) =>
    answer(
      api.PATCH("/accounts/{account}", {
        params: { path: { account: v.name } },
        body: { ...(v.may && { may: v.may }), ...(v.password && { password: v.password }) },
      }),
    ),
  );

export const useResetFactors = () =>
  useAct((name: string) =>
    answer(api.PATCH("/accounts/{account}", { params: { path: { account: name } }, body: { resetFactors: true } })),
  );

export const useFactors = () => useQuery({ queryKey: ["factors"], queryFn: () => answer(api.GET("/me/factors")) });

export const useBeginFactor = () =>
  useAct((v: { kind: "code" | "passkey"; name: string; password?: string }) =>
    answer(api.POST("/me/factors", { body: v })),
  );

// What these give is given once: it is taken before anything is asked for again.
export const useAddFactor = (take: (added: FactorAdded) => void) =>
  useAct(async (v: Shown) => {
    take(await answer(api.POST("/me/factors/added", { body: v })));
  });

export const useDropFactor = () =>
  useAct((id: string) => answer(api.DELETE("/me/factors/{id}", { params: { path: { id } } })));

export const useNewCodes = (take: (r: { codes?: string[] }) => void) =>
  useAct(async () => {
    take(await answer(api.POST("/me/recovery-codes")));
  });

export const useCloseAccount = () =>
  useAct((name: string) => answer(api.DELETE("/accounts/{account}", { params: { path: { account: name } } })));

export const useOwnPassword = () =>
  useAct((v: { old: string; new: string }) => answer(api.POST("/me/password", { body: v })));

export const useTokens = () => useQuery({ queryKey: ["tokens"], queryFn: () => answer(api.GET("/tokens")) });

export const useAddToken = () =>
  useAct((v: { name: string; may?: string[]; until: string }) => answer(api.POST("/tokens", { body: v })));

export const useEndToken = () =>
  useAct((id: string) => answer(api.DELETE("/tokens/{id}", { params: { path: { id } } })));

export const useRules = () => useQuery({ queryKey: ["rules"], queryFn: () => answer(api.GET("/rules")) });

export const useAddRule = () =>
  useAct((v: { scope?: string; path?: string; needed: number; emergency: boolean; note?: string }) =>
    answer(api.POST("/rules", { body: v })),
  );

export const useDropRule = () =>
  useAct((n: number) => answer(api.DELETE("/rules/{id}", { params: { path: { id: n } } })));

/** Agrees to an act of administration that somebody else proposed. */
export const useAgreeTo = () =>
  useAct((number: number) => answer(api.POST("/proposals/{id}/agreement", { params: { path: { id: number } } })));

export const useDropProposal = () =>
  useAct((number: number) => answer(api.DELETE("/proposals/{id}", { params: { path: { id: number } } })));
