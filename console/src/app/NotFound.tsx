import { Space } from "antd";
import { Link, useLocation } from "react-router";
import { PageTitle } from "../parts/Headings";

/** What stands at an address that leads nowhere. */
export function NotFound() {
  const { pathname } = useLocation();
  return (
    <>
      <PageTitle>There is no such page</PageTitle>
      <p>
        Nothing is at <code>{pathname}</code>. It may have been mistyped, or lead to something that was removed.
      </p>
      <Space wrap>
        <Link to="/">What needs a decision now</Link>
        <Link to="/changes">Changes</Link>
        <Link to="/devices">Devices</Link>
      </Space>
    </>
  );
}
