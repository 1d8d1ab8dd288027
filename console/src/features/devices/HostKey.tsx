import { Alert, Button, Flex, Typography } from "antd";
import { useHostKey, useTrust, type KeyOf } from "./queries";
import { Trouble } from "../../parts/Trouble";

/** The host key that a device's or archive's server shows now, to be compared and accepted by a person. */
export function HostKey({ of, whose }: { of: KeyOf; whose: string }) {
  const shown = useHostKey(of);
  const trust = useTrust(of);
  const k = shown.data;
  return (
    <Flex vertical gap={6}>
      <Flex gap={8}>
        <Button
          size="small"
          loading={shown.isFetching}
          onClick={() => {
            void shown.refetch();
          }}
        >
          Ask it for its host key
        </Button>
        {k && k.accepted !== k.fingerprint && (
          <Button
            size="small"
            type="primary"
            loading={trust.isPending}
            onClick={() => {
              trust.mutate(k.fingerprint);
            }}
          >
            It is the right one: accept it
          </Button>
        )}
      </Flex>
      <Trouble error={shown.error ?? trust.error} />
      {k && (
        <Alert
          type={k.accepted === k.fingerprint ? "success" : "warning"}
          showIcon
          title={
            <>
              {k.type} <Typography.Text code>{k.fingerprint}</Typography.Text>
              {k.accepted === k.fingerprint ? " is accepted." : ""}
            </>
          }
          description={
            k.accepted === k.fingerprint ? undefined : (
              <>
                Compare it with what {whose} itself shows, over another way.
                {k.accepted && (
                  <div>
                    Accepted until now: <Typography.Text code>{k.accepted}</Typography.Text>
                  </div>
                )}
              </>
            )
          }
        />
      )}
    </Flex>
  );
}
