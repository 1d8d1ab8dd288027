import { Button } from "antd";
import { Suspense, useState } from "react";
import { useSearchParams } from "react-router";
import { useSession } from "../access/queries";
import { may } from "../../lib/may";
import { page } from "../../parts/page";

const NewChangeForm = page(() => import("./NewChangeForm").then((m) => m.NewChangeForm));

/** The button that opens a change, for who may. */
export function NewChange() {
  const session = useSession().data;
  const [search, setSearch] = useSearchParams();
  const wanted = search.get("new") !== null; // by who came here to open one
  const [pressed, setPressed] = useState(false);
  const [asked, setAsked] = useState(false);
  const shown = pressed || wanted;
  const close = () => {
    setPressed(false);
    if (wanted) setSearch({}, { replace: true });
  };
  if (session && !may(session, "stage")) return null;
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
