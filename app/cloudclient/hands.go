package cloudclient

import (
	"context"
	"net/url"

	"redlocket/core/keys"
	"redlocket/core/wire"
)

// SetHand keeps a helping hand in the place of the one before; an empty one ends it. key is the account's present
// sign-in key.
func (c *Client) SetHand(ctx context.Context, credential string, key keys.Key, in wire.NewHand) error {
	p := proofBy(key, false)
	return c.prove(ctx, "PUT", "/v1/hand", credential, &p, in, nil)
}

// Hand tells what the cloud has of the account's own.
func (c *Client) Hand(ctx context.Context, credential string) (out wire.Hand, err error) {
	return out, c.call(ctx, "GET", "/v1/hand", credential, nil, &out)
}

// StopHelp stops all that was asked of the account's helpers.
func (c *Client) StopHelp(ctx context.Context, credential string) error {
	return c.call(ctx, "POST", "/v1/hand/stop", credential, struct{}{}, nil)
}

// HeldHands lists those of which the account's owner is a helper.
func (c *Client) HeldHands(ctx context.Context, credential string) (out []wire.HeldHand, err error) {
	return out, c.call(ctx, "GET", "/v1/hands", credential, nil, &out)
}

// HoldsHand says that the owner's devices have their part.
func (c *Client) HoldsHand(ctx context.Context, credential, hand string) error {
	return c.call(ctx, "POST", "/v1/hands/"+url.PathEscape(hand)+"/holds", credential, struct{}{}, nil)
}

// Help answers a request; syncing.ErrOver if it was stopped, or is over.
func (c *Client) Help(ctx context.Context, credential, hand, id string, in wire.Help) error {
	path := "/v1/hands/" + url.PathEscape(hand) + "/asked/" + url.PathEscape(id)
	return c.call(ctx, "POST", path, credential, in, nil)
}

// AskHelp asks the helpers of an address.
func (c *Client) AskHelp(ctx context.Context, in wire.AskHelp) (out wire.HelpAsked, err error) {
	return out, c.call(ctx, "POST", "/v1/help", "", in, &out)
}

// HelpState tells how far a request is; syncing.ErrOver if there is none any more.
func (c *Client) HelpState(ctx context.Context, id string, in wire.LookForHelp) (out wire.HelpState, err error) {
	return out, c.call(ctx, "POST", "/v1/help/"+url.PathEscape(id), "", in, &out)
}
