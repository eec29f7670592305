package app

import "runtime/debug"

// release is the version that the next release will have.
const release = "0.1.0"

// Version is Bouncer's version: the release, and behind a plus sign (semver.org,
// build metadata) the revision that it was built from, where that is known.
var Version = version(debug.ReadBuildInfo())

func version(info *debug.BuildInfo, ok bool) string {
	if !ok {
		return release
	}
	set := map[string]string{}
	for _, s := range info.Settings {
		set[s.Key] = s.Value
	}
	revision := set["vcs.revision"]
	if len(revision) < 8 {
		return release
	}
	if set["vcs.modified"] == "true" {
		return release + "+" + revision[:8] + ".altered"
	}
	return release + "+" + revision[:8]
}
