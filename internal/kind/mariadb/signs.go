package mariadb

import "dravit/internal/kind"

// signs are how a project tells that it needs such a part.
var signs = kind.Signs{
	Part:  "db",
	Names: []string{"mysql", "mariadb", "mysql2", "trilogy"},
	Packages: []string{"composer:ext-mysqli", "composer:ext-pdo_mysql", "npm:mysql", "npm:mysql2", "npm:mariadb",
		"python:mysqlclient", "python:pymysql", "python:mysql-connector-python", "python:aiomysql",
		"python:asyncmy", "gem:mysql2", "gem:trilogy", "go:github.com/go-sql-driver/mysql",
		"go:gorm.io/driver/mysql", "maven:mysql-connector-j", "maven:mysql-connector-java",
		"maven:mariadb-java-client", "nuget:mysqlconnector", "nuget:mysql.data",
		"nuget:pomelo.entityframeworkcore.mysql"},
	Extensions: []string{"mysqli", "pdo_mysql"},
	Driver:     "pdo_mysql",
	DataSource: "mysql:host={db.host};port={db.port};dbname={db.database};charset=utf8mb4",
	Variables:  []string{"MYSQL", "MARIADB"},
	Port:       3306,
}
