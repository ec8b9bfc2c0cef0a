package oci

import "crelvo/internal/ecosystem"

// Clients implements ecosystem.Ecosystem.
func (o OCI) Clients() []ecosystem.PackageClient {
	return []ecosystem.PackageClient{ecosystem.Curl(o)}
}
