package depot

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"filippo.io/age"
	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// objectStore starts a server that speaks S3 and gives a bucket on it; cut has
// so many of its next answers break off.
func objectStore(t *testing.T) (b *Bucket, place string, cut *atomic.Int32) {
	t.Helper()
	t.Setenv("AWS_ACCESS_KEY_ID", "made-up")
	t.Setenv("AWS_SECRET_ACCESS_KEY", "made-up-secret")
	backend := s3mem.New()
	require.NoError(t, backend.CreateBucket("points"))
	s3 := gofakes3.New(backend, gofakes3.WithTimeSkewLimit(0)).Server()
	cut = &atomic.Int32{}
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if cut.Add(-1) >= 0 {
			c, _, err := http.NewResponseController(w).Hijack()
			if err == nil {
				c.Close()
			}
			return
		}
		s3.ServeHTTP(w, r)
	}))
	t.Cleanup(srv.Close)
	place = "s3+http://" + strings.TrimPrefix(srv.URL, "http://") + "/points/of/ours?region=us-east-1"
	b, err := OpenBucket(context.Background(), place, "")
	require.NoError(t, err)
	return b, place, cut
}

func key(t *testing.T) *Key {
	t.Helper()
	k, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	return k
}

// stores are all places in which a depot may be.
func stores(t *testing.T) map[string]func() Store {
	bucket, _, _ := objectStore(t)
	folder, other := Folder(t.TempDir()), Folder(t.TempDir())
	k := key(t)
	sealedBucket, _, _ := objectStore(t)
	return map[string]func() Store{
		"folder": func() Store { return folder }, "bucket": func() Store { return bucket },
		"sealed folder": func() Store { return &sealed{other, []*Key{k}} },
		"sealed bucket": func() Store { return &sealed{sealedBucket, []*Key{k}} },
	}
}

func TestEachStoreKeepsWhatItIsGiven(t *testing.T) {
	ctx := context.Background()
	for name, of := range stores(t) {
		t.Run(name, func(t *testing.T) {
			s := of()
			_, err := s.Get(ctx, "points/none.json", 0, -1)
			assert.ErrorIs(t, err, fs.ErrNotExist)
			_, err = s.Get(ctx, packName([]byte("none")), 0, 4)
			assert.ErrorIs(t, err, fs.ErrNotExist)
			require.NoError(t, s.Remove(ctx, "points/none.json"), "what is not there is removed already")
			for _, size := range []int{1, 16, 64 << 10, 64<<10 + 1, 300_000} {
				data := noise(uint64(size), size)
				pack := packName(data)
				require.NoError(t, s.Put(ctx, pack, data))
				whole, err := s.Get(ctx, pack, 0, -1)
				require.NoError(t, err)
				assert.True(t, bytes.Equal(data, whole))
				for _, r := range [][2]int{{0, min(size, 9)}, {size / 2, size - size/2},
					{max(0, size-16), min(16, size)}, {min(size, 65_530), min(20, size-min(size, 65_530))}} {
					part, err := s.Get(ctx, pack, int64(r[0]), int64(r[1]))
					require.NoError(t, err, "%d: %v", size, r)
					assert.True(t, bytes.Equal(data[r[0]:r[0]+r[1]], part))
				}
				_, err = s.Get(ctx, pack, int64(size), 5)
				assert.Error(t, err, "there is no more")
				list, err := s.List(ctx, pack[:9])
				require.NoError(t, err)
				assert.Contains(t, list, Stored{pack, int64(size)})
				require.NoError(t, s.Remove(ctx, pack))
				_, err = s.Get(ctx, pack, 0, -1)
				assert.ErrorIs(t, err, fs.ErrNotExist)
			}
			require.NoError(t, s.Put(ctx, "proofs/a.json", []byte("one")))
			require.NoError(t, s.Put(ctx, "proofs/a.json", []byte("another")), "a proof is replaced")
			text, err := s.Get(ctx, "proofs/a.json", 0, -1)
			require.NoError(t, err)
			assert.Equal(t, "another", string(text))
		})
	}
}

func TestLocksOfEachStore(t *testing.T) {
	ctx := context.Background()
	for name, of := range stores(t) {
		t.Run(name, func(t *testing.T) {
			one, err := of().Lock(ctx, false)
			require.NoError(t, err)
			two, err := of().Lock(ctx, false)
			require.NoError(t, err, "several may add")
			_, err = of().Lock(ctx, true)
			require.ErrorIs(t, err, ErrBusy)
			one()
			two()
			alone, err := of().Lock(ctx, true)
			require.NoError(t, err)
			for _, how := range []bool{true, false} {
				_, err = of().Lock(ctx, how)
				require.ErrorIs(t, err, ErrBusy)
			}
			alone()
			again, err := of().Lock(ctx, true)
			require.NoError(t, err)
			again()
		})
	}
}

func TestADepotInABucketAndEncrypted(t *testing.T) {
	ctx := context.Background()
	k := key(t)
	for _, keys := range [][]*Key{nil, {k}} {
		b, place, cut := objectStore(t)
		d, err := Open(ctx, b, keys...)
		require.NoError(t, err)
		m := small()
		p1, err := keep(t, d, m, noon)
		require.NoError(t, err)
		m2 := small()
		m2.rows[7] = "another"
		cut.Store(3) // connections break; requests are made again
		p2, err := keep(t, d, m2, noon.Add(1))
		require.NoError(t, err)
		assert.Less(t, p2.Added, p1.Added/4)

		other, err := OpenBucket(ctx, place, "")
		require.NoError(t, err)
		d, err = Open(ctx, other, keys...)
		require.NoError(t, err)
		for p, want := range map[string]made{p1.ID: m, p2.ID: m2} {
			x, err := d.Point(ctx, p)
			require.NoError(t, err)
			got, err := back(d, x)
			require.NoError(t, err)
			assert.Equal(t, want.rows, got.rows)
		}
		faults, err := d.Verify(ctx, func(int64) {})
		require.NoError(t, err)
		assert.Empty(t, faults)
		require.NoError(t, d.Forget(ctx, p1.ID))
		_, err = d.Prune(ctx, false)
		require.NoError(t, err)
		list, err := b.List(ctx, "")
		require.NoError(t, err)
		for _, o := range list {
			data, err := b.Get(ctx, o.Name, 0, -1)
			require.NoError(t, err)
			if keys != nil && o.Name != about {
				assert.True(t, bytes.HasPrefix(data, []byte("age-encryption.org/v1")), o.Name)
			}
			if strings.HasPrefix(o.Name, packs) { // a flipped bit is found and named
				data[len(data)/2] ^= 1
				require.NoError(t, b.Put(ctx, o.Name, data))
			}
		}
		d, err = Open(ctx, other, keys...)
		require.NoError(t, err)
		faults, err = d.Verify(ctx, func(int64) {})
		require.NoError(t, err)
		assert.NotEmpty(t, faults)
	}
}

func TestAnEncryptedDepotWantsItsKey(t *testing.T) {
	ctx := context.Background()
	f := Folder(t.TempDir())
	k := key(t)
	_, err := Open(ctx, f, k)
	require.NoError(t, err)
	_, err = Open(ctx, f)
	assert.ErrorIs(t, err, ErrLocked)
	d, err := Open(ctx, f, k)
	require.NoError(t, err)
	p, err := keep(t, d, small(), noon)
	require.NoError(t, err)
	d, err = Open(ctx, f, key(t))
	require.NoError(t, err)
	_, err = d.Point(ctx, p.ID)
	assert.ErrorIs(t, err, ErrLocked)
	plainly := Folder(t.TempDir())
	_, err = Open(ctx, plainly)
	require.NoError(t, err)
	_, err = Open(ctx, plainly, k)
	assert.ErrorContains(t, err, "name an empty place")
}

func TestBucketsThatCanNotBeOpened(t *testing.T) {
	ctx := context.Background()
	_, place, _ := objectStore(t)
	_, err := OpenBucket(ctx, strings.Replace(place, "/points/", "/other/", 1), "")
	assert.ErrorContains(t, err, "there is no bucket other")
	for _, bad := range []string{"s3://host", "s3://", "s3://key:made-up-secret@host/bucket"} {
		_, err := OpenBucket(ctx, bad, "")
		require.Error(t, err, bad)
	}
	assert.False(t, IsBucket("/srv/depot"))
	assert.False(t, errors.Is(err, ErrLocked))
}
