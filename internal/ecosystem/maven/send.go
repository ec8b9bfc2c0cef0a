package maven

import (
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha1"
	"encoding/hex"
	"encoding/xml"
	"net/http"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// Send implements ecosystem.Sending: files with their checksums, and then the
// list of versions with this one in it.
func (m Maven) Send(ctx context.Context, s ecosystem.Shipment) error {
	for _, f := range s.Files {
		if err := m.sendFile(ctx, s, f); err != nil {
			return err
		}
	}
	folder := s.URL + strings.ReplaceAll(s.Namespace, ".", "/") + "/" + s.Name + "/"
	status, said, err := s.Ask(ctx, http.MethodGet, folder+metadataName, nil, 0, nil)
	if err != nil {
		return err
	}
	var list listOfVersions
	if status == http.StatusOK {
		if err := ecosystem.DecodeXML(bytes.NewReader(said), &list); err != nil {
			return &ecosystem.Rejection{Said: folder + metadataName + " there cannot be read: " + err.Error(), Final: true}
		}
	}
	list.GroupID, list.ArtifactID = s.Namespace, s.Name
	if !slices.Contains(list.Versions, s.Version) {
		list.Versions = append(list.Versions, s.Version)
	}
	slices.SortFunc(list.Versions, func(a, b string) int { return purl.Compare(Name, a, b) })
	list.Latest, list.Release = list.Versions[len(list.Versions)-1], s.Version
	for _, version := range list.Versions {
		if !purl.IsSnapshot(Name, version) {
			list.Release = version
		}
	}
	list.LastUpdated = time.Now().UTC().Format("20060102150405")
	raw, err := xml.MarshalIndent(list, "", "  ")
	if err != nil {
		return err
	}
	return put(ctx, s, folder+metadataName, append([]byte(xml.Header), raw...))
}

type listOfVersions struct {
	XMLName     xml.Name `xml:"metadata"`
	GroupID     string   `xml:"groupId"`
	ArtifactID  string   `xml:"artifactId"`
	Latest      string   `xml:"versioning>latest"`
	Release     string   `xml:"versioning>release"`
	Versions    []string `xml:"versioning>versions>version"`
	LastUpdated string   `xml:"versioning>lastUpdated"`
}

// put sends a text with its checksums.
func put(ctx context.Context, s ecosystem.Shipment, address string, content []byte) error {
	sha, md := sha1.Sum(content), md5.Sum(content)
	for _, part := range []struct {
		ending  string
		content []byte
	}{{"", content}, {".sha1", []byte(hex.EncodeToString(sha[:]))}, {".md5", []byte(hex.EncodeToString(md[:]))}} {
		if _, _, err := s.Ask(ctx, http.MethodPut, address+part.ending, bytes.NewReader(part.content),
			int64(len(part.content)), nil); err != nil {
			return err
		}
	}
	return nil
}

func (m Maven) sendFile(ctx context.Context, s ecosystem.Shipment, f catalog.File) error {
	address := s.URL + m.Address(purl.PURL{Ecosystem: Name, Namespace: s.Namespace, Name: s.Name, Version: s.Version}, "",
		f)
	status, said, err := s.Ask(ctx, http.MethodGet, address+".sha1", nil, 0, nil)
	if err != nil {
		return err
	}
	if there := strings.Fields(string(said)); status == http.StatusOK && len(there) > 0 {
		if strings.EqualFold(there[0], f.Digests.Hex("sha1")) {
			return nil
		}
		return &ecosystem.Rejection{Said: address + " is there already, with other bytes", Final: true}
	}
	content, err := s.Open(f)
	if err != nil {
		return err
	}
	defer content.Close()
	if _, _, err := s.Ask(ctx, http.MethodPut, address, content, f.Digests.Size, nil); err != nil {
		return err
	}
	for _, algorithm := range []string{"sha1", "md5"} {
		sum := f.Digests.Hex(algorithm)
		if _, _, err := s.Ask(ctx, http.MethodPut, address+"."+algorithm, strings.NewReader(sum), int64(len(sum)),
			nil); err != nil {
			return err
		}
	}
	return nil
}
