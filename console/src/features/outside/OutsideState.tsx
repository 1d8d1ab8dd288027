import { Tag } from "antd";
import { Link } from "react-router";
import type { Outside } from "../../lib/documents";

/** What became of an outside change, in one word and colour. */
export function OutsideState({ outside: o }: { outside: Outside }) {
  if (o.state === "open" && o.change)
    return (
      <Tag color="geekblue">
        being pushed back by <Link to={`/changes/${String(o.change)}`}>change {o.change}</Link>
      </Tag>
    );
  if (o.state === "open") return <Tag color="volcano">! to be decided</Tag>;
  if (o.state === "opened")
    return (
      <Tag color="geekblue">
        goes on in <Link to={`/changes/${String(o.change)}`}>change {o.change}</Link>
      </Tag>
    );
  return <Tag color={o.state === "silenced" ? "default" : "cyan"}>{o.state}</Tag>;
}
