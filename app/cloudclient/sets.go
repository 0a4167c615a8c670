package cloudclient

import (
	"context"
	"net/url"
	"strconv"

	"redlocket/core/wire"
)

func setPath(set string) string { return "/v1/sets/" + url.PathEscape(set) }

func setEpochPath(set string, epoch uint32) string {
	return setPath(set) + "/" + strconv.FormatUint(uint64(epoch), 10)
}

// Sets lists the sets that the account's owner holds with others, and what is sealed to them.
func (c *Client) Sets(ctx context.Context, credential string) (out []wire.SharedSet, err error) {
	return out, c.call(ctx, "GET", "/v1/sets", credential, nil, &out)
}

// BeginSetEpoch begins an epoch of a set, or the set; syncing.ErrConflict if another one came first.
func (c *Client) BeginSetEpoch(ctx context.Context, credential, set string, in wire.NewSetEpoch) error {
	return c.call(ctx, "POST", setPath(set)+"/epochs", credential, in, nil)
}

// SetChanges reads what came after a head of an epoch; syncing.ErrConflict if that isn't the newest epoch.
func (c *Client) SetChanges(
	ctx context.Context, credential, set string, epoch uint32, since uint64,
) (wire.Changes, error) {
	return c.changes(ctx, setEpochPath(set, epoch)+"/changes", credential, since)
}

// CommitSet brings a commit to an epoch; syncing.ErrConflict if another one came first.
func (c *Client) CommitSet(ctx context.Context, credential, set string, epoch uint32, in wire.Commit) error {
	return c.call(ctx, "POST", setEpochPath(set, epoch)+"/commits", credential, in, nil)
}

// LeaveSet takes the account's owner off a set.
func (c *Client) LeaveSet(ctx context.Context, credential, set string, in wire.LeaveSet) error {
	return c.call(ctx, "POST", setPath(set)+"/leave", credential, in, nil)
}

// SetBox returns something that was sealed to the account's owner.
func (c *Client) SetBox(ctx context.Context, credential, set, box string) (out wire.SetBox, err error) {
	return out, c.call(ctx, "GET", setPath(set)+"/boxes/"+url.PathEscape(box), credential, nil, &out)
}

// RemoveSetBox removes something that was sealed to the account's owner.
func (c *Client) RemoveSetBox(ctx context.Context, credential, set, box string) error {
	return c.call(ctx, "DELETE", setPath(set)+"/boxes/"+url.PathEscape(box), credential, nil, nil)
}

func setChunkPath(set string, epoch uint32, file string, n int) string {
	return setEpochPath(set, epoch) + "/files/" + url.PathEscape(file) + "/" + strconv.Itoa(n)
}

// PutSetChunk brings one sealed chunk of a file of an epoch.
func (c *Client) PutSetChunk(
	ctx context.Context, credential, set string, epoch uint32, file string, n int, sealed []byte,
) error {
	return c.call(ctx, "PUT", setChunkPath(set, epoch, file, n), credential, sealed, nil)
}

// SetChunk reads one.
func (c *Client) SetChunk(
	ctx context.Context, credential, set string, epoch uint32, file string, n int,
) ([]byte, error) {
	return c.chunk(ctx, credential, setChunkPath(set, epoch, file, n))
}
