import { useQuery } from "@tanstack/react-query";
import { ApiError, call } from "../../lib/api";
import type { Account, ApprovalRule, FactorAdded, FactorBegun, Factors, Session, Shown, Token } from "../../lib/documents";
import { useAct } from "../../lib/query";

/** Who is signed in; null where nobody is. */
export function useSession() {
  return useQuery({
    queryKey: ["me"],
    queryFn: async () => {
      try {
        return await call<Session>("GET", "/me");
      } catch (err) {
        if (err instanceof ApiError && err.problem.status === 401) return null;
        throw err;
      }
    },
    staleTime: 60_000,
  });
}

export const useWays = () => useQuery({ queryKey: ["ways"], queryFn: () => call<{ elsewhere?: string }>("GET", "/login/ways"), retry: false });

export const useAccounts = (wanted: boolean) => useQuery({ queryKey: ["accounts"], queryFn: () => call<Account[]>("GET", "/accounts"), enabled: wanted });

export const useAddAccount = () => useAct((v: { name: string; password: string; may: string[] }) => call<Account>("POST", "/accounts", v));

export const useSetAccount = () => useAct((v: { name: string; may?: string[]; password?: string }) => call<Account>("PATCH", `/accounts/${encodeURIComponent(v.name)}`, { ...(v.may && { may: v.may }), ...(v.password && { password: v.password }) }));

export const useResetFactors = () => useAct((name: string) => call<Account>("PATCH", `/accounts/${encodeURIComponent(name)}`, { resetFactors: true }));

export const useFactors = () => useQuery({ queryKey: ["factors"], queryFn: () => call<Factors>("GET", "/me/factors") });

export const useBeginFactor = () => useAct((v: { kind: "code" | "passkey"; name: string; password?: string }) => call<FactorBegun>("POST", "/me/factors", v));

// What these give is given once: it is taken before anything is asked for anew.
export const useAddFactor = (take: (added: FactorAdded) => void) => useAct(async (v: Shown) => { take(await call<FactorAdded>("POST", "/me/factors/added", v)); });

export const useDropFactor = () => useAct((id: string) => call<undefined>("DELETE", `/me/factors/${encodeURIComponent(id)}`));

export const useNewCodes = (take: (r: { codes: string[] }) => void) => useAct(async () => { take(await call<{ codes: string[] }>("POST", "/me/recovery-codes")); });

export const useCloseAccount = () => useAct((name: string) => call<undefined>("DELETE", `/accounts/${encodeURIComponent(name)}`));

export const useOwnPassword = () => useAct((v: { old: string; new: string }) => call<undefined>("POST", "/me/password", v));

export const useTokens = () => useQuery({ queryKey: ["tokens"], queryFn: () => call<Token[]>("GET", "/tokens") });

export const useAddToken = () => useAct((v: { name: string; may?: string[]; until: string }) => call<Token>("POST", "/tokens", v));

export const useEndToken = () => useAct((id: string) => call<undefined>("DELETE", `/tokens/${encodeURIComponent(id)}`));

export const useRules = () => useQuery({ queryKey: ["rules"], queryFn: () => call<ApprovalRule[]>("GET", "/rules") });

export const useAddRule = () => useAct((v: { scope?: string; path?: string; needed: number; emergency: boolean; note?: string }) => call<ApprovalRule>("POST", "/rules", v));

export const useDropRule = () => useAct((n: number) => call<undefined>("DELETE", `/rules/${String(n)}`));

/** Agrees to an act of administration that somebody else proposed. */
export const useAgreeTo = () => useAct((number: number) => call<undefined>("POST", `/proposals/${String(number)}/agreement`));

export const useDropProposal = () => useAct((number: number) => call<undefined>("DELETE", `/proposals/${String(number)}`));
