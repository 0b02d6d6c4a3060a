package depot

import (
	"alibi/internal/site"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// Bucket is a store in a bucket of an object store that speaks S3. Its requests
// are tried again by themselves where a connection broke.
type Bucket struct {
	client *minio.Client
	bucket string
	prefix string
}

// IsBucket tells whether a depot's place is a bucket: s3://HOST/BUCKET, or
// s3+http://HOST/BUCKET without encryption on the line.
func IsBucket(place string) bool {
	return strings.HasPrefix(place, "s3://") || strings.HasPrefix(place, "s3+http://")
}

// OpenBucket opens s3://HOST[:PORT]/BUCKET[/FOLDER][?region=NAME]. The key comes
// from the environment, by the names that S3 programs use for it, or from a file
// that such programs share.
func OpenBucket(ctx context.Context, place, credentialsFile string) (*Bucket, error) {
	u, err := url.Parse(place)
	if err != nil || u.Host == "" || strings.Trim(u.Path, "/") == "" || u.User != nil {
		return nil, fmt.Errorf("%q is no bucket: write s3://HOST/BUCKET, and leave keys out of it", place)
	}
	b := &Bucket{}
	var below string
	b.bucket, below, _ = strings.Cut(strings.Trim(u.Path, "/"), "/")
	if below != "" {
		b.prefix = below + "/"
	}
	chain := credentials.NewChainCredentials([]credentials.Provider{&credentials.EnvAWS{},
		&credentials.FileAWSCredentials{Filename: credentialsFile}})
	b.client, err = minio.New(
		u.Host,
		&minio.Options{
			Creds:        chain,
			Secure:       u.Scheme == "s3",
			Region:       u.Query().Get("region"),
			BucketLookup: minio.BucketLookupAuto,
		},
	)
	if err != nil {
		return nil, fmt.Errorf("opening the bucket %s: %w", place, err)
	}
	ok, err := b.client.BucketExists(ctx, b.bucket)
	if err != nil {
		return nil, fmt.Errorf("opening the bucket %s at %s: %w", b.bucket, u.Host, plainly(err))
	}
	if !ok {
		return nil, fmt.Errorf("there is no bucket %s at %s, or the key does not open it: make it first", b.bucket,
			u.Host)
	}
	return b, nil
}

// plainly says what an object store answered, without what it was asked.
func plainly(err error) error {
	r := minio.ToErrorResponse(err)
	switch {
	case r.Code == "NoSuchKey" || r.StatusCode == 404:
		return fs.ErrNotExist
	case r.Code == "AccessDenied" || r.StatusCode == 403:
		return fmt.Errorf("it refuses the key: %w", fs.ErrPermission)
	case r.Code != "" && r.Message != "":
		return fmt.Errorf("it answers %s: %s", r.Code, r.Message)
	}
	return err
}

// Put stores an object: it is there whole or not at all.
func (b *Bucket) Put(ctx context.Context, name string, data []byte) error {
	_, err := b.client.PutObject(ctx, b.bucket, b.prefix+name, bytes.NewReader(data), int64(len(data)),
		minio.PutObjectOptions{ContentType: "application/octet-stream", DisableMultipart: true})
	if err != nil {
		return fmt.Errorf("writing to the depot: %w", plainly(err))
	}
	return nil
}

// Get reads a part of an object.
func (b *Bucket) Get(ctx context.Context, name string, at, n int64) ([]byte, error) {
	if n == 0 {
		return nil, nil
	}
	opt := minio.GetObjectOptions{}
	if n > 0 {
		if err := opt.SetRange(at, at+n-1); err != nil {
			return nil, err
		}
	} else if at > 0 {
		if err := opt.SetRange(at, 0); err != nil {
			return nil, err
		}
	}
	o, err := b.client.GetObject(ctx, b.bucket, b.prefix+name, opt)
	if err != nil {
		return nil, fmt.Errorf("reading the depot: %w", plainly(err))
	}
	defer o.Close()
	out, err := io.ReadAll(o)
	if err != nil {
		return nil, fmt.Errorf("reading the depot: %s: %w", name, plainly(err))
	}
	if n > 0 && int64(len(out)) != n {
		return nil, fmt.Errorf("reading the depot: %s: %w", name, io.ErrUnexpectedEOF)
	}
	return out, nil
}

// List lists objects.
func (b *Bucket) List(ctx context.Context, prefix string) (out []Stored, err error) {
	for o := range b.client.ListObjects(ctx, b.bucket, minio.ListObjectsOptions{Prefix: b.prefix + prefix,
		Recursive: true}) {
		if o.Err != nil {
			return nil, fmt.Errorf("listing the depot: %w", plainly(o.Err))
		}
		if name := strings.TrimPrefix(o.Key, b.prefix); !strings.HasPrefix(name, locks) ||
			strings.HasPrefix(prefix, locks) {
			out = append(out, Stored{name, o.Size})
		}
	}
	return out, ctx.Err()
}

// Remove removes an object; one that is not there is removed already.
func (b *Bucket) Remove(ctx context.Context, name string) error {
	err := b.client.RemoveObject(ctx, b.bucket, b.prefix+name, minio.RemoveObjectOptions{})
	if err = plainly(err); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("removing from the depot: %w", err)
	}
	return nil
}

// Locks are objects, by which those who are at work tell of each other. Each is
// written anew while its owner lives; one that was not for a while is nobody's.
const (
	locks     = "locks/"
	lockBeat  = 30 * time.Second
	lockStale = 5 * time.Minute
)

// Lock puts a lock's object and then looks for others': of two who come at once
// both see the other, and neither goes on.
func (b *Bucket) Lock(ctx context.Context, alone bool) (func(), error) {
	var id [8]byte
	_, _ = rand.Read(id[:])
	name := locks + site.Either(alone, "alone-", "shared-") + hex.EncodeToString(id[:])
	who, _ := os.Hostname() // for people only
	if err := b.Put(ctx, name, []byte(who+"\n")); err != nil {
		return nil, err
	}
	beat, stop := context.WithCancel(context.WithoutCancel(ctx))
	gone := sync.OnceFunc(func() {
		stop()
		_ = b.Remove(context.WithoutCancel(ctx), name) // else it goes stale
	})
	busy, err := b.others(ctx, name, alone)
	if err == nil && busy {
		err = ErrBusy
	}
	if err != nil {
		gone()
		return nil, err
	}
	go func() {
		tick := time.NewTicker(lockBeat)
		defer tick.Stop()
		for {
			select {
			case <-beat.Done():
				return
			case <-tick.C:
				_ = b.Put(beat, name, []byte(who+"\n")) // the next beat comes before it is stale
			}
		}
	}()
	return gone, nil
}

// others tells whether somebody else's lock stands against ours, by the object
// store's own clock.
func (b *Bucket) others(ctx context.Context, ours string, alone bool) (bool, error) {
	type lock struct {
		name string
		at   time.Time
	}
	var list []lock
	var now time.Time
	for o := range b.client.ListObjects(ctx, b.bucket, minio.ListObjectsOptions{Prefix: b.prefix + locks,
		Recursive: true}) {
		if o.Err != nil {
			return false, fmt.Errorf("locking the depot: %w", plainly(o.Err))
		}
		name := strings.TrimPrefix(o.Key, b.prefix)
		if name == ours {
			now = o.LastModified
			continue
		}
		list = append(list, lock{name, o.LastModified})
	}
	if now.IsZero() {
		return false, errors.New("locking the depot: the object store does not show what was just written to it")
	}
	for _, l := range list {
		if now.Sub(l.at) > lockStale {
			if err := b.Remove(ctx, l.name); err != nil {
				return false, err
			}
			continue
		}
		if alone || strings.HasPrefix(l.name, locks+"alone-") {
			return true, nil
		}
	}
	return false, nil
}
