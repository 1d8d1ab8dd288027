import { Button } from "antd";
import { Suspense, useState } from "react";
import { page } from "../../parts/page";

const NewChangeForm = page(() => import("./NewChangeForm").then((m) => m.NewChangeForm));

/** The button that opens a change. */
export function NewChange() {
  const [shown, setShown] = useState(false);
  const [asked, setAsked] = useState(false);
  return (
    <>
      <Button
        type="primary"
        onClick={() => {
          setAsked(true);
          setShown(true);
        }}
      >
        Open a change
      </Button>
      <Suspense fallback={null}>
        {asked && (
          <NewChangeForm
            shown={shown}
            onClose={() => {
              setShown(false);
            }}
          />
        )}
      </Suspense>
    </>
  );
}
