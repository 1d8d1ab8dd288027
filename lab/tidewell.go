package lab

import (
	"embed"
	"fmt"
	"net/netip"
	"time"
)

//go:embed tidewell/*.xml
var tidewellFiles embed.FS

// Account and password of the lab's devices. They are no secret: the devices
// listen on loopback only.
const (
	User     = "harbour"
	Password = "rope-and-tide"
)

// Site is a device of the demo's network with what an inventory says of it.
type Site struct {
	Spec       Spec
	Site, Role string
}

// Tidewell is the network of the demo: Tidewell Ferries, a made-up ferry line.
// The last of its devices is an old one: it has no confirmed commit, and its
// clock is behind.
// The devices listen on 127.64.1.N, port 2830; dir keeps what must outlast a
// restart.
func Tidewell(dir string) ([]Site, error) {
	sites := []Site{
		{
			Spec: Spec{Name: "northmole-harbour", Modules: []string{"ietf-access-control-list"}}, Site: "Northmole",
			Role: "router",
		},
		{Spec: Spec{Name: "saltern-quay", Modules: []string{"oaken-lab-vlans"}}, Site: "Saltern", Role: "switch"},
		{
			Spec: Spec{Name: "gannet-hall", Modules: []string{"ietf-access-control-list", "oaken-lab-zones"}},
			Site: "Gannet Point", Role: "firewall",
		},
		{
			Spec: Spec{
				Name: "saltern-slip", Modules: []string{"oaken-lab-vlans"}, Kind: NoConfirm, Silent: true,
				ClockAhead: -100 * time.Second,
			},
			Site: "Saltern", Role: "switch",
		},
	}
	for i := range sites {
		s := &sites[i].Spec
		factory, err := tidewellFiles.ReadFile("tidewell/" + s.Name + ".xml")
		if err != nil {
			return nil, err
		}
		s.Factory, s.Dir = factory, dir
		s.User, s.Password = User, Password
		s.Listen = fmt.Sprintf("127.64.1.%d:2830", i+1)
		s.Management = Management{
			Address: netip.AddrFrom4([4]byte{192, 0, 2, byte(11 + i)}), Operator: netip.MustParseAddr("198.51.100.10"),
			Port: 830,
			Others: map[netip.Addr]string{
				netip.AddrFrom4([4]byte{192, 0, 2, byte(21 + i)}): fmt.Sprintf("127.64.1.%d:2830", i+11),
			},
		}
	}
	return sites, nil
}
