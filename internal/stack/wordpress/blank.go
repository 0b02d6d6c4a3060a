package wordpress

import (
	"fmt"
	"io"
	"net/url"

	"alibi/internal/host"
)

// TablePrefix is the one that is proposed to everybody.
func (Stack) TablePrefix() string { return "wp_" }

// SetPassword changes the table of accounts.
func (Stack) SetPassword(prefix string) string {
	return "UPDATE `" + prefix + "users` SET user_pass = ? WHERE user_login = ?"
}

// FirstConfig is the sample that comes with the core.
func (Stack) FirstConfig(root host.Tree) ([]byte, error) {
	f, err := root.Open("wp-config-sample.php")
	if err != nil {
		return nil, fmt.Errorf("the core has no sample of a configuration: %w", err)
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, 1<<20))
}

// FirstForm is that of wp-admin/install.php.
func (Stack) FirstForm(title, admin, mail, password string) (string, url.Values) {
	return "/wp-admin/install.php?step=2", url.Values{
		"weblog_title":    {title},
		"user_name":       {admin},
		"admin_password":  {password},
		"admin_password2": {password},
		"pw_weak":         {"on"},
		"admin_email":     {mail},
		"blog_public":     {"0"},
		"language":        {""},
	}
}
