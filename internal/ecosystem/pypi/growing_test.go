package pypi

import (
	"testing"

	"crelvo/internal/core/catalog"
)

func TestMayNotGrow(t *testing.T) {
	for _, c := range []struct {
		there, added string
		refused      bool
	}{
		{"tidecast-1.0-py3-none-any.whl", "tidecast-1.0-1-py3-none-any.whl", true},
		{"tidecast-1.0-py3-none-any.whl", "tidecast-1.0.tar.gz", false},
		{"tidecast-1.0.tar.gz", "tidecast-1.0-py3-none-any.whl", false},
		{"tidecast-1.0-py3-none-any.whl", "tidecast-1.0-cp311-cp311-manylinux_2_17_x86_64.whl", true},
		{"tidecast-1.0-cp311-cp311-manylinux_2_17_x86_64.whl", "tidecast-1.0-py3-none-any.whl", false},
		{"tidecast-1.0-cp311-cp311-manylinux_2_17_x86_64.whl", "tidecast-1.0-cp311-cp311-macosx_11_0_arm64.whl", false},
		{"tidecast-1.0-cp311-cp311-manylinux_2_17_x86_64.whl", "tidecast-1.0-cp312-cp312-manylinux_2_17_x86_64.whl", false},
		{"tidecast-1.0-cp311-cp311-manylinux_2_17_x86_64.whl", "tidecast-1.0-cp311-cp311-manylinux_2_28_x86_64.whl", true},
		{"tidecast-1.0-cp311-cp311-manylinux_2_17_x86_64.whl", "tidecast-1.0-cp311-cp311-musllinux_1_1_x86_64.whl", false},
		{"tidecast-1.0-cp311-cp311-manylinux_2_17_x86_64.whl", "tidecast-1.0-cp311-cp311-manylinux_2_17_aarch64.whl", false},
		{"tidecast-1.0-cp38-abi3-win_amd64.whl", "tidecast-1.0-cp311-cp311-win_amd64.whl", true},
		{"tidecast-1.0-cp311-cp311-win_amd64.whl", "tidecast-1.0-cp38-abi3-win_amd64.whl", false},
		{"tidecast-1.0-cp311-cp311-macosx_11_0_arm64.whl", "tidecast-1.0-cp311-cp311-macosx_10_9_universal2.whl", true},
		{"tidecast-1.0-py2-none-any.whl", "tidecast-1.0-py3-none-any.whl", false},
	} {
		extension := wheel
		if c.added[len(c.added)-3:] != "whl" {
			extension = "tar.gz"
		}
		if why := (PyPI{}).MayNotGrow([]catalog.File{{Name: c.there}}, c.added, "", extension); (why != "") != c.refused {
			t.Errorf("%s beside %s: %q", c.added, c.there, why)
		}
	}
}
