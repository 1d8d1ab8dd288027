import { Alert } from "antd";
import { ApiError } from "../lib/api";

/** An error as the service told it: what is wrong and what to do. */
export function Trouble({ error }: { error: Error | null }) {
  if (!error) return null;
  const p = error instanceof ApiError ? error.problem : undefined;
  return (
    <Alert
      type="error"
      showIcon
      role="alert"
      title={p?.title ?? "Something went wrong here"}
      description={
        <>
          <div style={{ whiteSpace: "pre-wrap" }}>{p?.detail ?? error.message}</div>
          {p?.next && <div>Next: {p.next}</div>}
        </>
      }
      style={{ marginBottom: 16 }}
    />
  );
}
