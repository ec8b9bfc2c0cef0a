package store

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/text"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/secret"
)

// NewStore is a store to be made.
type NewStore struct {
	Name     string
	Kind     record.StoreKind
	Settings record.StoreSettings
	// Secret belongs to the access key, where credentials are kept.
	Secret string
	// Adopt takes a folder or bucket that was given to another Crelvo, whose identity it
	// keeps.
	Adopt bool
}

// View is a store as it is shown.
type View struct {
	record.Store
	Where        string
	Files, Bytes int64
	Away         string   // why it cannot be used; "" if it can
	Repositories []string // that were given it, or have it because it is the default
	Free         int64    // of a folder
	Waiting      int64    // files that are to be copied there
}

// Stores lists the stores.
func (s *Store) Stores(ctx context.Context, caller access.Caller) ([]View, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return nil, err
	}
	totals, _, err := act.Figure(ctx, s.Act, "bytes by store", s.DB.StoreTotals)
	if err != nil {
		return nil, err
	}
	known := s.known.Load()
	var all []View
	for _, o := range known.all {
		v := View{Store: o.Store, Where: s.where(o.Store)}
		v.Secret = nil
		for _, t := range totals {
			if t.StoreID == o.ID {
				v.Files, v.Bytes = t.Files, t.Bytes
			}
		}
		away := o.away
		if away == nil {
			away = o.bytes.Away()
		}
		if away != nil {
			v.Away = because(away)
		}
		for _, r := range s.directory.Repositories() {
			if !r.Gathers() && (r.StoreID == o.ID || r.StoreID == 0 && o.Default) {
				v.Repositories = append(v.Repositories, r.Name)
			}
		}
		if v.Kind == record.FolderStore {
			if v.Free, err = o.bytes.Free(); err != nil {
				return nil, s.Fault(err)
			}
		}
		if known.several() {
			if v.Waiting, err = s.DB.Unplaced(ctx, o.ID); err != nil {
				return nil, err
			}
		}
		all = append(all, v)
	}
	return all, nil
}

// StoreNamed shows one.
func (s *Store) StoreNamed(ctx context.Context, caller access.Caller, name string) (View, error) {
	all, err := s.Stores(ctx, caller)
	if err != nil {
		return View{}, err
	}
	if i := slices.IndexFunc(all, func(v View) bool { return v.Name == name }); i >= 0 {
		return all[i], nil
	}
	_, err = s.named(name)
	return View{}, err
}

// AddStore makes a store known, which must be there, be new, and do all that a store must.
func (s *Store) AddStore(ctx context.Context, caller access.Caller, n NewStore) error {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return err
	}
	if err := act.CheckName("store", n.Name); err != nil {
		return err
	}
	row, err := s.checked(record.Store{Name: n.Name, Kind: n.Kind, Settings: n.Settings, CreatedAt: s.Now()}, n.Secret)
	if err != nil {
		return err
	}
	for _, o := range s.known.Load().all {
		if o.Name == n.Name {
			return nameTaken(n.Name)
		}
		if o.Kind == row.Kind && o.Settings.Folder == row.Settings.Folder && o.Settings.Endpoint == row.Settings.Endpoint &&
			o.Settings.Bucket == row.Settings.Bucket && o.Settings.Prefix == row.Settings.Prefix {
			return fault.New(fault.Conflict, "store-known", "the %s is the store %s already", s.where(row), o.Name)
		}
	}
	if row.Identity, err = s.met(ctx, row, n.Adopt); err != nil {
		return err
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		_, ok, err := tx.AddStore(ctx, row)
		if err == nil && !ok {
			err = nameTaken(n.Name)
		}
		if err != nil {
			return err
		}
		event := s.Event(caller, record.EventStoreAdded)
		event.Subject = n.Name
		event.Detail = s.settingsOf(row)
		return tx.Append(ctx, event, record.Change{Kind: record.OfStore})
	})
	if err != nil {
		return err
	}
	return s.Load(ctx)
}

func nameTaken(name string) error {
	return fault.New(fault.Conflict, "name-taken", "there is a store %q already", name).WithHint("Choose another name.")
}

// met tries a store that is to be added, and gives it a name of its own. One that has one
// belongs to somebody else.
func (s *Store) met(ctx context.Context, row record.Store, adopt bool) (identity string, err error) {
	made, err := s.make(row)
	if err != nil {
		return "", err
	}
	defer made.Close()
	if identity, err = made.Identity(); err != nil {
		return "", s.unusable(row, err)
	}
	if identity != "" && !adopt {
		return "", fault.New(fault.Conflict, "store-of-another", "the %s belongs to another Crelvo, or did so",
			s.where(row)).
			WithHint("Choose another one, or another prefix. If that Crelvo is no more, and its bytes are to be found here, add " +
				"it with --adopt.")
	}
	if err := s.try(ctx, &opened{Store: row, bytes: &measured{made, s.measures, row.Name}}); err != nil {
		return "", err
	}
	if identity == "" {
		identity = strings.ToLower(rand.Text())
		err = made.SetIdentity(identity)
	}
	return identity, s.unusable(row, err)
}

// unusable says of a store that somebody is about to add or looks at why it cannot be used.
func (s *Store) unusable(row record.Store, err error) error {
	if err == nil {
		return nil
	}
	return fault.New(fault.Invalid, "store-unusable", "the %s cannot be used: %s", s.where(row), because(err)).
		WithHint("Check the address, the name of the bucket, and that the key may read, write, list and remove there.").
		WithCause(err)
}

// try stores, reads, lists and drops some bytes.
func (s *Store) try(ctx context.Context, o *opened) error {
	content := []byte("tried by Crelvo " + rand.Text())
	staged, err := o.bytes.Stage(ctx, bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return s.unusable(o.Store, err)
	}
	digest := staged.Digests.SHA256
	err = o.bytes.Keep(ctx, staged)
	if err == nil {
		if err = o.bytes.Verify(ctx, digest, int64(len(content)), func(r io.Reader) io.Reader { return r }); err == nil {
			_, err = o.bytes.AllBegun(ctx, "tried-")
		}
		err = errors.Join(err, o.bytes.Drop(ctx, digest))
	}
	return s.unusable(o.Store, errors.Join(err, staged.Discard()))
}

// Check tries a store, and says how long it took.
func (s *Store) Check(ctx context.Context, caller access.Caller, name string) (time.Duration, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return 0, err
	}
	o, err := s.named(name)
	if err != nil {
		return 0, err
	}
	begun := time.Now()
	identity, err := o.bytes.Identity()
	if err != nil {
		return 0, s.unusable(o.Store, err)
	}
	if identity != o.Identity {
		return 0, fault.New(fault.Internal, "other-store", "the %s is not the store that it was", s.where(o.Store)).
			WithHint("Somebody has put another one in its place, or emptied it. Bring it back.")
	}
	err = s.try(ctx, o)
	return time.Since(begun), err
}

// Change is what of a store is to be different; nil fields stay as they are.
type Change struct {
	Name, Folder, Endpoint, Bucket, Prefix, Region, Addressing, Encryption *string
	Credentials, AccessKey, Secret                                         *string
	Default                                                                *bool
}

// EditStore changes where a store is, how it is reached, or that it is the default one. It
// must be the same store there.
func (s *Store) EditStore(ctx context.Context, caller access.Caller, name string, c Change) error {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return err
	}
	o, err := s.named(name)
	if err != nil {
		return err
	}
	row, is := o.Store, &o.Settings
	settings := *is
	act.Set(&row.Name, c.Name)
	for to, from := range map[*string]*string{&settings.Folder: c.Folder, &settings.Endpoint: c.Endpoint,
		&settings.Bucket: c.Bucket, &settings.Prefix: c.Prefix, &settings.Region: c.Region,
		&settings.Addressing: c.Addressing, &settings.Encryption: c.Encryption, &settings.Credentials: c.Credentials,
		&settings.AccessKey: c.AccessKey} {
		act.Set(to, from)
	}
	if err := act.CheckName("store", row.Name); err != nil {
		return err
	}
	if c.Default != nil {
		if !*c.Default && row.Default {
			return act.Invalid("no-default", "%s is the default store, and there must be one", name).
				WithHint("Make another one the default.")
		}
		row.Default = *c.Default
	}
	if settings != *is || c.Secret != nil {
		given := ""
		if c.Secret != nil {
			given = *c.Secret
		}
		row.Settings = settings
		if row, err = s.checked(row, given); err != nil {
			return err
		}
		if err := s.sameStill(row); err != nil {
			return err
		}
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.SetStore(ctx, row); record.Collided(err) {
			return nameTaken(row.Name)
		} else if err != nil {
			return err
		}
		event := s.Event(caller, record.EventStoreChanged)
		event.Subject = row.Name
		event.Detail = s.settingsOf(row)
		return tx.Append(ctx, event, record.Change{Kind: record.OfStore})
	})
	if err != nil {
		return err
	}
	return s.Load(ctx)
}

// sameStill refuses what is another store than it was.
func (s *Store) sameStill(row record.Store) error {
	made, err := s.make(row)
	if err != nil {
		return err
	}
	defer made.Close()
	identity, err := made.Identity()
	if err != nil {
		return s.unusable(row, err)
	}
	if identity != row.Identity {
		return fault.New(fault.Conflict, "other-store", "the %s is not the store %s", s.where(row), row.Name).
			WithHint("Copy all of it there first, its object or file called identity included; or add it as a store of its own, " +
				"and move repositories there.")
	}
	return nil
}

// RemoveStore forgets a store that nothing is in; what is there is not touched.
func (s *Store) RemoveStore(ctx context.Context, caller access.Caller, name string) error {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return err
	}
	o, err := s.named(name)
	if err != nil {
		return err
	}
	ctx = record.Patiently(ctx)
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		inUse, err := tx.DropStore(ctx, o.ID)
		if err == nil && inUse {
			err = fault.New(fault.Conflict, "store-in-use", "%s has bytes, or is where what is new in a repository goes", name).
				WithHint("Move the repositories that have it to another store, and make another one the default. What is " +
					"reclaimed leaves it by itself.")
		}
		if err != nil {
			return err
		}
		event := s.Event(caller, record.EventStoreRemoved)
		event.Subject = name
		return tx.Append(ctx, event, record.Change{Kind: record.OfStore})
	})
	if err != nil {
		return err
	}
	return s.Load(ctx)
}

// settingsOf are the settings of a store for the activity record; its secret is not among
// them.
func (s *Store) settingsOf(row record.Store) map[string]string {
	is := row.Settings
	all := map[string]string{"kind": string(row.Kind), "where": s.where(row)}
	for name, value := range map[string]string{"prefix": is.Prefix, "region": is.Region, "addressing": is.Addressing,
		"encryption": is.Encryption, "credentials": is.Credentials, "access key": is.AccessKey} {
		if value != "" {
			all[name] = value
		}
	}
	if row.Default {
		all["default"] = "yes"
	}
	return all
}

// bucketForm is what buckets may be called, and prefixForm what is put before the names of
// objects.
var (
	bucketForm = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]{1,61}[a-z0-9]$`)
	prefixForm = regexp.MustCompile(`^([A-Za-z0-9._-]+/)*$`)
)

// checked is a store whose settings are such as can be; given is the secret of its key, ""
// for that of before.
func (s *Store) checked(row record.Store, given string) (record.Store, error) {
	is := &row.Settings
	switch row.Kind {
	case record.FolderStore:
		if row.ID != record.MainStore && !filepath.IsAbs(is.Folder) {
			return row, act.Invalid("bad-folder", "%q is not the whole path of a folder", is.Folder).
				WithHint("Every node must find it there, on a file system that they share, if there is more than one.")
		}
		if *is != (record.StoreSettings{Folder: is.Folder}) || given != "" {
			return row, act.Invalid("not-s3", "%s is a folder, and has no bucket, address or key", row.Name)
		}
		return row, nil
	case record.S3Store:
	default:
		return row, act.Invalid("bad-kind", "a store cannot be a %q", row.Kind).WithHint("Choose folder or s3.")
	}
	u, err := url.Parse(is.Endpoint)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil ||
		strings.Trim(u.Path, "/") != "" || u.RawQuery != "" || u.Fragment != "" {
		return row, act.Invalid("bad-endpoint", "%.200q is not the address of an object store", is.Endpoint).
			WithHint("Write it like https://s3.skerry.example:9000, without the bucket.")
	}
	is.Endpoint = u.Scheme + "://" + u.Host
	if is.Prefix != "" && !strings.HasSuffix(is.Prefix, "/") {
		is.Prefix += "/"
	}
	switch {
	case is.Folder != "":
		return row, act.Invalid("not-a-folder", "%s is in an object store, and has no folder", row.Name)
	case !bucketForm.MatchString(is.Bucket):
		return row, act.Invalid("bad-bucket", "%.80q cannot be the name of a bucket", is.Bucket)
	case !prefixForm.MatchString(is.Prefix) || len(is.Prefix) > 200 || strings.Contains(is.Prefix, ".."):
		return row, act.Invalid("bad-prefix", "%.200q cannot stand before the names of objects", is.Prefix).
			WithHint("Write it like crelvo/ or team/crelvo/.")
	case is.Addressing != "" && is.Addressing != "path" && is.Addressing != "host":
		return row, act.Invalid("bad-addressing", "a bucket cannot be addressed by %q", is.Addressing).
			WithHint("Choose path or host: whether its name stands behind the host or before it.")
	case is.Encryption != "" && is.Encryption != "s3" && !strings.HasPrefix(is.Encryption, "kms:"):
		return row, act.Invalid("bad-encryption", "an object store cannot encrypt by %q", is.Encryption).
			WithHint("Choose s3, or kms: and the id of a key.")
	}
	for _, value := range []string{is.Region, is.Encryption, is.AccessKey} {
		if len(value) > 500 || !text.Fit(value, false) {
			return row, act.Invalid("bad-setting", "%.60q cannot be a setting of an object store", value)
		}
	}
	return s.sealed(row, given)
}

// sealed is a store whose key is known in one way.
func (s *Store) sealed(row record.Store, given string) (record.Store, error) {
	is := &row.Settings
	switch is.Credentials {
	case keptCredentials, "":
		is.Credentials = keptCredentials
		if is.AccessKey == "" || given == "" && len(row.Secret) == 0 {
			return row, act.Invalid("no-key", "%s needs an access key and its secret", row.Name).
				WithHint("Give both, or say that credentials are in the environment of each node, or are the machine's own.")
		}
		if given != "" {
			var err error
			row.Secret, err = s.safe.SealSignIn(secret.SignIn{Secret: given}, secret.ObjectStore)
			return row, err
		}
	case environmentCredentials, machineCredentials:
		if is.AccessKey != "" || given != "" {
			return row, act.Invalid("key-not-kept", "the key of %s is not kept here, so it cannot be given", row.Name).
				WithHint("Leave it out, or keep the credentials here.")
		}
		row.Secret = nil
	default:
		return row, act.Invalid("bad-credentials", "credentials cannot be %q", is.Credentials).
			WithHint("Choose kept, environment or machine.")
	}
	return row, nil
}

// LoadFirst is Load at the start. If nothing was kept yet, the first store is where the
// settings of the program say.
func (s *Store) LoadFirst(ctx context.Context) error {
	// What a process before this one had on its way to object stores is of no use.
	before, err := filepath.Glob(filepath.Join(s.Settings.Folder, "stores", "*", "spool"))
	for _, dir := range before {
		err = errors.Join(err, os.RemoveAll(dir))
	}
	if err != nil {
		return err
	}
	if s.Settings.FirstStore != "" {
		rows, err := s.DB.Stores(ctx)
		if err != nil {
			return err
		}
		if len(rows) == 1 && rows[0].Identity == "" {
			first, err := addressed(s.Settings.FirstStore)
			if err != nil {
				return err
			}
			row := rows[0]
			row.Kind, row.Settings = first.Kind, first.Settings
			if row, err = s.checked(row, ""); err != nil {
				return err
			}
			if err := s.DB.Within(ctx, func(tx *record.Tx) error { return tx.SetStore(ctx, row) }); err != nil {
				return err
			}
		}
	}
	return s.Load(ctx)
}

// addressed reads where bytes are to be kept: the path of a folder, or
// s3+https://HOST/BUCKET/PREFIX, with region and addressing behind a question mark.
func addressed(address string) (record.Store, error) {
	row := record.Store{Kind: record.FolderStore, Settings: record.StoreSettings{Folder: address}}
	endpoint, s3 := strings.CutPrefix(address, "s3+")
	if !s3 {
		if !filepath.IsAbs(address) {
			return row, badAddress(address)
		}
		return row, nil
	}
	u, err := url.Parse(endpoint)
	if err != nil || u.User != nil {
		return row, badAddress(address)
	}
	bucket, prefix, _ := strings.Cut(strings.Trim(u.Path, "/"), "/")
	if prefix != "" {
		prefix += "/"
	}
	row.Kind = record.S3Store
	row.Settings = record.StoreSettings{Endpoint: u.Scheme + "://" + u.Host, Bucket: bucket, Prefix: prefix,
		Region: u.Query().Get("region"), Addressing: u.Query().Get("addressing"),
		Encryption: u.Query().Get("encryption"), Credentials: environmentCredentials}
	if u.Query().Get("credentials") != "" {
		row.Settings.Credentials = u.Query().Get("credentials")
	}
	return row, nil
}

func badAddress(address string) error {
	return fault.New(fault.Invalid, "bad-store", "%q does not say where bytes are to be kept", address).
		WithHint("Write the whole path of a folder, or s3+https://s3.skerry.example/BUCKET/PREFIX?region=REGION; the key " +
			"is taken from AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY, or with credentials=machine from the machine.")
}
