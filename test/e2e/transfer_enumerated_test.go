package e2e

import (
	"fmt"
	"testing"

	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// TestTransferEnumerated takes everything from another server by a mirror of it that was never asked for
// anything: what is there the server tells, as its protocol offers it.
func TestTransferEnumerated(t *testing.T) {
	t.Parallel()
	for ecosystem, path := range map[string]string{"npm": "npm/", "pypi": "pypi/simple/", "nuget": "nuget/",
		"cargo": "cargo/"} {
		t.Run(ecosystem, func(t *testing.T) {
			from, to := repository(t, "both"), repository(t, "both")
			for i := range 12 {
				for _, version := range []string{"1.0.0", "1.1.0"}[:1+i%2] {
					publishMade(t, from, ecosystem, madeup.Package{Name: fmt.Sprintf("moved-%s-%d", ecosystem, i), Version: version,
						Licence: "MIT"})
				}
			}
			publishMade(t, from, ecosystem, madeup.Package{Name: "other-" + ecosystem, Version: "1.0.0", Licence: "MIT"})
			mirror := fmt.Sprintf("old-%d", made.Add(1))
			if err := shared.AddMirrorOf(t.Context(), ecosystem, mirror, shared.Address+"/at/"+from+"/"+path,
				map[string]any{"user": "anybody", "secret": house.Token}); err != nil {
				t.Fatal(err)
			}
			text, errs, code := crelvoAsAdmin(t, "transfer", "--from", mirror, "--to", to, "--only", "pkg:"+ecosystem+"/moved-*")
			if says(t, text, "Came:          18 versions"); code != 0 {
				t.Errorf("it ends with %d: %s", code, errs)
			}
			p, err := desk(house.Token).Package(t.Context(), "pkg:"+ecosystem+"/moved-"+ecosystem+"-11", to)
			if err != nil || len(p.Versions) != 2 {
				t.Errorf("of the last one there is %+v, %v", p.Versions, err)
			}
		})
	}
}
