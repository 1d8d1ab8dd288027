import { useMutation, useQueryClient } from "@tanstack/react-query";

/**
 * Marks queries that make the service read devices. They are not asked anew for
 * every event: a device that is polled too often may never get to its own work.
 */
export const readsDevice = { readsDevice: true };

/** A request that changes something; everything shown is asked for again after it. */
export function useAct<V, R = unknown>(act: (v: V) => Promise<R>) {
  const client = useQueryClient();
  return useMutation({ mutationFn: act, onSettled: () => client.invalidateQueries() });
}
