#include "container/valid_name.h"

#include <stdio.h>

#include "base/random.h"

static const char *const firsts[] = {"amber", "ample", "blue", "bright",
	"broad", "calm", "clear", "copper", "deep", "distant", "early", "fair",
	"far", "firm", "gentle", "glad", "green", "grey", "hardy", "high",
	"keen", "late", "level", "light", "long", "low", "mild", "narrow",
	"neat", "northern", "old", "outer", "pale", "plain", "quick", "quiet",
	"rusty", "salty", "sandy", "silver", "slow", "smooth", "snug",
	"southern", "steady", "still", "stout", "sunny", "swift", "tall",
	"tidy", "trim", "warm", "western", "wide", "young"};

static const char *const seconds[] = {"anchor", "beacon", "bell", "berth",
	"bollard", "breeze", "buoy", "cable", "capstan", "channel", "chart",
	"cove", "current", "davit", "dock", "ebb", "eddy", "fender", "ferry",
	"fjord", "flag", "foam", "gull", "harbour", "hatch", "haven", "heron",
	"inlet", "island", "jetty", "keel", "knot", "lagoon", "lantern",
	"locker", "mast", "mole", "mooring", "oar", "pier", "pilot", "pontoon",
	"groyne", "reef", "rope", "rudder", "sail", "seal", "shoal", "signal",
	"slipway", "sound", "spar", "strand", "swell", "tern", "tide", "tiller",
	"wake", "wave", "wharf", "winch"};

#define COUNT(list) ((uint32_t)(sizeof(list) / sizeof(*(list))))

int th_name_new(struct th_db *db, char name[TH_NAME_MAX], struct th_error *err)
{
	for (int tries = 0; tries < 200; tries++) {
		int64_t taken = 0;

		snprintf(name, TH_NAME_MAX, "%s-%s",
			firsts[th_random_below(COUNT(firsts))],
			seconds[th_random_below(COUNT(seconds))]);
		/* The pairs run out some day: a number makes more. */
		if (tries >= 20)
			snprintf(name, TH_NAME_MAX, "%s-%s-%u",
				firsts[th_random_below(COUNT(firsts))],
				seconds[th_random_below(COUNT(seconds))],
				th_random_below(10000));
		if (th_db_number(db, 0, &taken, err,
			    "SELECT 1 FROM containers WHERE name=?", "t", name))
			return -1;
		if (!taken)
			return 0;
	}
	return th_fail(err, TH_FAILED, "no free name could be generated");
}
