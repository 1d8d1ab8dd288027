import { Alert, Button, Space } from "antd";
import { Link, useLocation } from "react-router";
import { placeOf } from "../lib/advice";
import { ApiError } from "../lib/api";
import { heardAfter, useLost } from "../lib/contact";
import type { Step } from "../lib/documents";

/** One step of advice: its words, and the way to where it is done, unless that is here. */
function NextStep({ step }: { step: Step }) {
  const here = useLocation();
  const place = placeOf(step);
  return (
    <Space wrap>
      <span>{step.text}</span>
      {place && place.to !== here.pathname + here.search && (
        <Link to={place.to}>
          <Button size="small">{place.label}</Button>
        </Link>
      )}
    </Space>
  );
}

/** An error as the service told it: what is wrong and what to do. */
export function Trouble({ error }: { error: Error | null }) {
  useLost(); // it is looked at again when contact is lost, or is back
  if (!error) return null;
  // That there was no answer is no longer so once the service is heard again.
  if (error instanceof ApiError && error.problem.status === 0 && heardAfter(error.at)) return null;
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
          {p?.next?.map((step, i) => (
            <div key={step.text + String(i)}>
              {i === 0 && "Next: "}
              <NextStep step={step} />
            </div>
          ))}
        </>
      }
      style={{ marginBottom: 16 }}
    />
  );
}
