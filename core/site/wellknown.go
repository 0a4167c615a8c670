package site

import (
	"encoding/json"
	"errors"
	"net/url"
	"slices"
)

// The addresses under which a site publishes things about itself (RFC 8615).
const (
	// ChangePasswordPath leads to the page where the password is changed (W3C, "A Well-Known
	// URL for Changing Passwords").
	ChangePasswordPath = "/.well-known/change-password"
	// NowherePath is asked for beside it: a site that has a page even here says yes to
	// everything, and its yes means nothing (same document, section 5).
	NowherePath = "/.well-known/resource-that-should-not-exist-whose-status-code-should-not-be-200"
	// AssetLinksPath lists the programs that have the site's accounts (Digital Asset Links).
	AssetLinksPath = "/.well-known/assetlinks.json"
)

// WellKnown returns a path at the origin of a clean address.
func WellKnown(address, path string) string {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return ""
	}
	return u.Scheme + "://" + u.Host + path
}

// ErrAssetLinks is returned for what isn't a list of asset links.
var ErrAssetLinks = errors.New("no list of asset links")

const maxApps = 20

// ParseAssetLinks returns the programs of a list of asset links that may share the site's
// logins: statements with the relation delegate_permission/common.get_login_creds about a
// package (Digital Asset Links, "Statement lists"; from memory).
func ParseAssetLinks(b []byte) ([]string, error) {
	var list []struct {
		Relation []string `json:"relation"`
		Target   struct {
			Namespace string `json:"namespace"`
			Package   string `json:"package_name"`
		} `json:"target"`
	}
	if err := json.Unmarshal(b, &list); err != nil {
		return nil, ErrAssetLinks
	}
	var out []string
	for _, s := range list {
		if s.Target.Namespace == "android_app" && slices.Contains(s.Relation,
			"delegate_permission/common.get_login_creds") &&
			s.Target.Package != "" && len(s.Target.Package) <= 200 && len(out) < maxApps &&
			!slices.Contains(out, s.Target.Package) {
			out = append(out, s.Target.Package)
		}
	}
	return out, nil
}
