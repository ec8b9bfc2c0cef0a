package promotion

import (
	"slices"
	"strings"

	"crelvo/internal/api"
	"crelvo/internal/ecosystem"
)

// plan is what is going to happen, for people.
func (c *crossing) plan() []api.PlannedVersion {
	all := make([]api.PlannedVersion, len(c.items))
	for i, item := range c.items {
		p := api.PlannedVersion{PURL: item.purl().String(), Upload: item.Upload, To: item.becomes(),
			Restamp: item.restamped(), Files: []api.PlannedFile{},
			NewBytes: item.newBytes}
		for _, f := range item.rewrite {
			line := api.PlannedFile{Name: f.File.Name, To: f.Rewriting.Name, Size: f.Digests.Size, Mentions: f.Mentions,
				Dropped: f.Dropped}
			for _, change := range f.Changes[:min(len(f.Changes), maxChanges)] {
				line.Changes = append(line.Changes, api.PlannedChange(change))
			}
			if f.Dropped != "" {
				line.To = ""
			} else {
				line.Signed = c.signs(item, f.Rewriting.Name)
			}
			if f.WriteTo != nil {
				p.NewBytes += f.Digests.Size
			}
			p.Files = append(p.Files, line)
		}
		all[i] = p
	}
	for _, l := range c.left {
		all = append(all, api.PlannedVersion{PURL: l.what.String(), Files: []api.PlannedFile{}, LeftOut: l.why})
	}
	return all
}

// signsBeside tells whether clients of an ecosystem look for a signature beside a file.
func (s *Promotion) signsBeside(of, file string) bool {
	e, ok := s.Ecosystem(of).(ecosystem.SignedBeside)
	return ok && e.SignsBeside(file)
}

// signs tells whether a file gets a signature on the way: of the ecosystems whose
// clients look for one beside the file.
func (c *crossing) signs(item crossingItem, name string) bool {
	if c.stage.SignWith == "" || !c.signsBeside(item.Ecosystem, name) || strings.HasSuffix(name, signatureEnding) {
		return false
	}
	return !slices.ContainsFunc(item.rewrite, func(f fileRewrite) bool {
		return f.Dropped == "" && f.Rewriting.Name == name+signatureEnding
	})
}

const signatureEnding = ".asc"
