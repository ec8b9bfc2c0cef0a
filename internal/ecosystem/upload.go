package ecosystem

import (
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
