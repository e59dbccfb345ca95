package dravitmail

import "dravit/internal/kind"

// signs are how a project tells that it needs such a part.
var signs = kind.Signs{
	Part:  "mail",
	Names: []string{"smtp"},
	Packages: []string{"composer:phpmailer/phpmailer", "composer:symfony/mailer",
		"composer:swiftmailer/swiftmailer", "npm:nodemailer", "gem:mail",
		"maven:spring-boot-starter-mail", "nuget:mailkit"},
	Calls:     []string{"mail"},
	Variables: []string{"MAIL", "SMTP", "MAILER"},
	Light:     true,
}
