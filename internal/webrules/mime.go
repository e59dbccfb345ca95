package webrules

// MIMETypes are the media types that web servers send for file extensions: a type, then its extensions, separated by
// spaces. The system's own list is not read, so that a site is served alike on every machine.
var MIMETypes = []string{
	"text/html html htm", "text/css css", "text/plain txt log", "text/xml xml", "text/csv csv",
	"text/markdown md", "text/calendar ics",
	"application/javascript js mjs", "application/json json map",
	"application/manifest+json webmanifest", "application/wasm wasm",
	"application/pdf pdf", "application/zip zip", "application/gzip gz",
	"application/rss+xml rss", "application/atom+xml atom",
	"image/svg+xml svg svgz", "image/png png", "image/jpeg jpg jpeg", "image/gif gif", "image/webp webp",
	"image/avif avif", "image/x-icon ico",
	"font/woff woff", "font/woff2 woff2", "font/ttf ttf", "font/otf otf", "video/mp4 mp4", "video/webm webm",
	"audio/mpeg mp3", "audio/ogg ogg",
}
