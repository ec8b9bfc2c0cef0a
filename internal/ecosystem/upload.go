package ecosystem

import (
	"crelvo/internal/core/fault"
	"strconv"
	"strings"
	"time"
)

// StampedUpload names an upload of a snapshot: its version, and when it came, in
// the form of build metadata or of a local version, which hardly count in the
// order of versions.
func StampedUpload(version string, at time.Time, n int) string {
	return UploadWith(version, at.UTC().Format("20060102.150405")+"."+strconv.Itoa(n))
}

// UploadWith joins a version and the stamp of an upload.
func UploadWith(version, stamp string) string {
	if strings.Contains(version, "+") {
		return version + "." + stamp
	}
	return version + "+" + stamp
}

// StampOf takes the stamp off the name of an upload.
func StampOf(version, upload string) string {
	return strings.TrimLeft(strings.TrimPrefix(upload, version), "+.")
}

// CutUpload is the refusal of what did not arrive whole.
func CutUpload(err error) error {
	return fault.New(fault.Invalid, "cut-upload", "what was published did not arrive whole").
		WithHint("Nothing of it was kept; publish it again.").WithCause(err)
}
