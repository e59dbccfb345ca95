package nginx

import (
	"dravit/internal/directives"
	"dravit/internal/kind"
)

// includes are for files that a site includes into its server block (nginx.org, "Alphabetical index of directives").
var includes = &kind.IncludeRules{
	Read: directives.Blocks,
	Refused: []string{"listen", "include", "load_module", "server", "http", "stream", "mail", "events", "upstream",
		"user", "pid", "lock_file", "env", "daemon", "master_process", "worker_processes"},
	Texts: []string{"location", "rewrite", "try_files", "return", "error_page", "if", "set", "index", "add_header",
		"add_trailer", "proxy_set_header", "proxy_redirect", "proxy_cookie_path", "proxy_cookie_domain", "proxy_pass",
		"fastcgi_pass", "uwsgi_pass", "scgi_pass", "grpc_pass", "memcached_pass", "fastcgi_param", "uwsgi_param",
		"scgi_param", "fastcgi_split_path_info", "fastcgi_index", "expires", "valid_referers", "sub_filter",
		"auth_request", "auth_request_set", "mirror", "post_action", "server_name", "types", "default_type", "allow",
		"deny", "grpc_set_header", "proxy_hide_header", "fastcgi_hide_header", "map", "limit_req", "limit_conn",
		"proxy_cache_key", "fastcgi_cache_key", "log_format", "secure_link", "secure_link_md5", "charset",
		"gzip_types", "auth_basic", "uninitialized_variable_warn", "proxy_method", "port_in_redirect", "dav_methods",
		"autoindex"},
	Named: map[string][]string{"fastcgi_param": {"SCRIPT_FILENAME", "DOCUMENT_ROOT", "PHP_VALUE", "PHP_ADMIN_VALUE"},
		"uwsgi_param": {"SCRIPT_FILENAME", "DOCUMENT_ROOT"}, "scgi_param": {"SCRIPT_FILENAME", "DOCUMENT_ROOT"}},
	Dynamic: []string{"alias", "root", "access_log", "error_log", "proxy_store", "fastcgi_store", "uwsgi_store",
		"scgi_store", "auth_basic_user_file", "ssl_certificate", "ssl_certificate_key"},
	Anchors: []string{"$document_root", "$realpath_root", "${document_root}"},
}
