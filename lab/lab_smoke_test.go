package lab

import ("testing";"os";"fmt"; "oakenlatch/core/codec";"github.com/stretchr/testify/require")
func TestSmoke(t *testing.T){
 s,err:=Tidewell(""); require.NoError(t,err)
 for _,x:=range s { x.Spec.Listen="127.0.0.1:0"; d,err:=Start(x.Spec); require.NoError(t,err); require.True(t,d.Reachable()); fmt.Fprintln(os.Stderr,codec.OutlineText(d.Running())); d.Stop() }
}
