import { Button } from "antd";
import { Suspense, useState } from "react";
import { useSearchParams } from "react-router";
import { page } from "../../parts/page";

const NewChangeForm = page(() => import("./NewChangeForm").then((m) => m.NewChangeForm));

/** The button that opens a change. */
export function NewChange() {
  const [search, setSearch] = useSearchParams();
  const wanted = search.get("new") !== null; // by who came here to open one
  const [pressed, setPressed] = useState(false);
  const [asked, setAsked] = useState(false);
  const shown = pressed || wanted;
  const close = () => {
    setPressed(false);
    if (wanted) setSearch({}, { replace: true });
  };
  return (
    <>
      <Button
        type="primary"
        onClick={() => {
          setAsked(true);
          setPressed(true);
        }}
      >
        Open a change
      </Button>
      <Suspense fallback={null}>{(asked || wanted) && <NewChangeForm shown={shown} onClose={close} />}</Suspense>
    </>
  );
}
