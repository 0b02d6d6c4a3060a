package wordpress

import (
	"slices"
	"strings"

	"alibi/internal/tables"
)

// passingSettings are settings that the CMS writes when it is visited or does its own duties: what is
// due when, locks, what it made of other settings.
var passingSettings = []string{
	"cron", "rewrite_rules", "recovery_keys", "recovery_mode_email_last_sent", "doing_cron", "can_compress_scripts",
	"auto_updater.lock", "core_updater.lock", "https_detection_errors", "auto_core_update_notified", "db_upgraded",
	"db_version",
	"wp_theme_json_data", "_wp_suggested_policy_text_has_changed", "action_scheduler_migration_status",
}

// passingPrefixes are what the names of such settings begin with.
var passingPrefixes = []string{
	"_transient_",
	"_site_transient_",
	"action_scheduler_lock_",
	"action_scheduler_hybrid_store_",
}

// childrenOf ends the name of the setting in which the CMS notes which groups of a taxonomy are below others. It is
// made anew where it is missing.
const childrenOf = "_children"

// passingMeta are fields of that kind of posts and accounts.
var passingMeta = []string{"session_tokens", "community-events-location", "_edit_lock", "_encloseme", "_pingme"}

// passingTypes are types of posts that hold what was fetched, or what somebody began to write.
var passingTypes = []string{"oembed_cache"}

// passingTables are tables of work that is due and of visitors' sessions.
var passingTables = []string{
	"actionscheduler_actions", "actionscheduler_claims", "actionscheduler_logs", "woocommerce_sessions",
}

// About says what people call a row, and whether it is one that the CMS writes by itself.
func (Stack) About(prefix string, t tables.Table, r tables.Row) (called string, passing bool) {
	x := row{t, r}
	is := func(name string) bool { return isTable(t.Name, prefix, name) }
	switch {
	case slices.ContainsFunc(passingTables, is):
		return "", true
	case is("options"):
		called = x.text("option_name")
		return called, passingSetting(called) || strings.HasSuffix(called, childrenOf)
	case is("sitemeta"):
		called = x.text("meta_key")
		return called, passingSetting(called)
	case is("posts"):
		called = x.text("post_title")
		if called == "" {
			called = x.text("post_name")
		}
		return called, slices.Contains(passingTypes, x.text("post_type")) || x.text("post_status") == "auto-draft"
	case is("postmeta"):
		called = x.text("meta_key")
		return called + " of " + x.text("post_id"), passingField(called)
	case is("usermeta"):
		called = x.text("meta_key")
		return called + " of account " + x.text("user_id"), passingField(called)
	case is("termmeta"):
		return x.text("meta_key") + " of term " + x.text("term_id"), false
	case is("commentmeta"):
		return x.text("meta_key") + " of comment " + x.text("comment_id"), false
	case is("comments"):
		return x.text("comment_author") + ": " + x.text("comment_content"), false
	case is("users"):
		return x.text("user_login"), false
	case is("terms"):
		return x.text("name"), false
	case is("term_relationships"):
		return "", false
	case is("blogs"):
		return x.text("domain") + x.text("path"), false
	}
	return "", false
}

func passingSetting(name string) bool {
	return slices.Contains(passingSettings, name) ||
		slices.ContainsFunc(passingPrefixes, func(p string) bool { return strings.HasPrefix(name, p) })
}

func passingField(name string) bool {
	return slices.Contains(passingMeta, name) || strings.HasPrefix(name, "_oembed_")
}
