import { Suspense, useEffect, useState } from "react";
import type { Second } from "../../lib/documents";
import { whenAskedAnew } from "../../lib/api";
import { page } from "../../parts/page";

const AskAnew = page(() => import("./SecondFactor").then((m) => m.AskAnew));

interface Asking {
  second: Second;
  answer: (shown: boolean) => void;
}

/** Waits for something grave that needs the second factor again, and asks for it then. */
export function ShowAnew() {
  const [asking, setAsking] = useState<Asking>();
  useEffect(() => {
    whenAskedAnew(
      (second) =>
        new Promise((answer) => {
          setAsking({ second, answer });
        }),
    );
    return () => {
      whenAskedAnew(undefined);
    };
  }, []);
  return (
    <Suspense fallback={null}>
      {asking && (
        <AskAnew
          second={asking.second}
          end={(shown) => {
            asking.answer(shown);
            setAsking(undefined);
          }}
        />
      )}
    </Suspense>
  );
}
