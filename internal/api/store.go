package api

import "time"

// Store is a place where bytes are kept.
type Store struct {
	Name         string    `json:"name"`
	Kind         string    `json:"kind" enum:"folder,s3"`
	Where        string    `json:"where" doc:"as people call it" example:"bucket packages at https://s3.skerry.example"`
	Default      bool      `json:"default" doc:"what is new in a repository that was given no store goes there"`
	Folder       string    `json:"folder,omitempty" doc:"of a folder; left out: the one in the data folder"`
	Endpoint     string    `json:"endpoint,omitempty"`
	Bucket       string    `json:"bucket,omitempty"`
	Prefix       string    `json:"prefix,omitempty" doc:"what stands before the names of all objects"`
	Region       string    `json:"region,omitempty"`
	Addressing   string    `json:"addressing,omitempty" enum:"path,host" doc:"where the name of the bucket stands; left out: what fits the endpoint"`
	Encryption   string    `json:"encryption,omitempty" doc:"s3, or kms: and the id of a key; left out: what the bucket does by itself"`
	Credentials  string    `json:"credentials,omitempty" enum:"kept,environment,machine"`
	AccessKey    string    `json:"accessKey,omitempty"`
	Identity     string    `json:"identity,omitempty" doc:"by which it is known again"`
	Files        int64     `json:"files"`
	Bytes        int64     `json:"bytes"`
	Free         int64     `json:"free,omitempty" doc:"what the disk of a folder has room for"`
	Waiting      int64     `json:"waiting,omitempty" doc:"files that are to be copied there"`
	Away         string    `json:"away,omitempty" doc:"why it cannot be used; left out: it can"`
	Repositories []string  `json:"repositories" doc:"whose new bytes go there"`
	CreatedAt    time.Time `json:"createdAt"`
}

// NewStore is a store to be added.
type NewStore struct {
	Name        string `json:"name" minLength:"2" maxLength:"63" example:"bucket"`
	Kind        string `json:"kind" enum:"folder,s3"`
	Folder      string `json:"folder,omitempty" maxLength:"4000" doc:"the whole path of a folder, which every node must find there"`
	Endpoint    string `json:"endpoint,omitempty" maxLength:"500" example:"https://s3.skerry.example"`
	Bucket      string `json:"bucket,omitempty" maxLength:"63"`
	Prefix      string `json:"prefix,omitempty" maxLength:"200" example:"crelvo/"`
	Region      string `json:"region,omitempty" maxLength:"100"`
	Addressing  string `json:"addressing,omitempty" maxLength:"10" doc:"path or host; left out: what fits the endpoint"`
	Encryption  string `json:"encryption,omitempty" maxLength:"500" doc:"s3, or kms: and the id of a key"`
	Credentials string `json:"credentials,omitempty" maxLength:"20" doc:"kept (encrypted, here), environment (AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY of each node) or machine (its role)"`
	AccessKey   string `json:"accessKey,omitempty" maxLength:"500"`
	Secret      string `json:"secret,omitempty" maxLength:"10000" doc:"of the access key"`
	Adopt       bool   `json:"adopt,omitempty" doc:"take what belonged to another Crelvo"`
}

// StoreChange is what is to be different; what is left out stays.
type StoreChange struct {
	Name        *string `json:"name,omitempty" minLength:"2" maxLength:"63"`
	Folder      *string `json:"folder,omitempty" maxLength:"4000"`
	Endpoint    *string `json:"endpoint,omitempty" maxLength:"500"`
	Bucket      *string `json:"bucket,omitempty" maxLength:"63"`
	Prefix      *string `json:"prefix,omitempty" maxLength:"200"`
	Region      *string `json:"region,omitempty" maxLength:"100"`
	Addressing  *string `json:"addressing,omitempty" maxLength:"10"`
	Encryption  *string `json:"encryption,omitempty" maxLength:"500"`
	Credentials *string `json:"credentials,omitempty" maxLength:"20"`
	AccessKey   *string `json:"accessKey,omitempty" maxLength:"500"`
	Secret      *string `json:"secret,omitempty" maxLength:"10000"`
	Default     *bool   `json:"default,omitempty"`
}

// StoreCheck is that a store does what it must.
type StoreCheck struct {
	Name string `json:"name"`
	Took string `json:"took" doc:"to store, read, list and drop some bytes" example:"12ms"`
}

// StoreMove takes what a repository holds to another store.
type StoreMove struct {
	ID         int64      `json:"id"`
	Repository string     `json:"repository"`
	Store      string     `json:"store"`
	State      string     `json:"state" enum:"looking,copying,dropping,done,given up"`
	Files      int64      `json:"files" doc:"to be copied when it began"`
	Bytes      int64      `json:"bytes"`
	LeftFiles  int64      `json:"leftFiles" doc:"still to be copied to that store, of all repositories"`
	LeftBytes  int64      `json:"leftBytes"`
	Freed      int64      `json:"freed" doc:"bytes, where they were before"`
	Trouble    string     `json:"trouble,omitempty" doc:"why something could not be copied yet; it is tried again"`
	By         string     `json:"by"`
	BegunAt    time.Time  `json:"begunAt"`
	EndedAt    *time.Time `json:"endedAt,omitempty"`
}

// NewStoreMove begins moves.
type NewStoreMove struct {
	Repositories []string `json:"repositories" minItems:"1" maxItems:"1000"`
	To           string   `json:"to" maxLength:"63" doc:"the store"`
}
