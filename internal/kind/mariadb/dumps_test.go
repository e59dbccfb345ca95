package mariadb

import (
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/dump"
)

// lines are a dump, each with what becomes of it.
var lines = []struct{ in, out string }{
	{"/*!999999\\- enable the sandbox mode */ \n", "\n"},
	{"-- MySQL dump 10.13  Distrib 8.0.36\n", "-- MySQL dump 10.13  Distrib 8.0.36\n"},
	{"SET @@SESSION.SQL_LOG_BIN= 0;\n", "\n"},
	{"SET @@GLOBAL.GTID_PURGED=/*!80000 '+'*/ 'a:1-5,\nb:7';\n", "\n\n"},
	{"CREATE DATABASE /*!32312 IF NOT EXISTS*/ `quay` /*!40100 DEFAULT CHARACTER SET utf8mb4 */;\n", "\n"},
	{"/*!40000 DROP DATABASE IF EXISTS `quay`*/;\n", "\n"},
	{"USE `quay`;\n", "\n"},
	{"CREATE TABLE `boats` (\n", "CREATE TABLE `boats` (\n"},
	{"  `use` varchar(9) COLLATE utf8mb4_0900_ai_ci DEFAULT NULL,\n",
		"  `use` varchar(9) COLLATE utf8mb4_unicode_ci DEFAULT NULL,\n"},
	{") ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_0900_ai_ci;\n",
		") ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_ci;\n"},
	{"INSERT INTO `boats` VALUES\n", "INSERT INTO `boats` VALUES\n"},
	{"(1,'CREATE DEFINER=`a`@`b` in utf8mb4_0900_ai_ci'),\n", "(1,'CREATE DEFINER=`a`@`b` in utf8mb4_0900_ai_ci'),\n"},
	{"GRANT is a text of a row, over two lines');\n", "GRANT is a text of a row, over two lines');\n"},
	{"/*!50003 CREATE*/ /*!50017 DEFINER=`root`@`%`*/ /*!50003 TRIGGER t BEFORE INSERT ON boats FOR EACH ROW\n",
		"/*!50003 CREATE*/ /*!50017 */ /*!50003 TRIGGER t BEFORE INSERT ON boats FOR EACH ROW\n"},
	{"SET NEW.name = UPPER(NEW.name) */;;\n", "SET NEW.name = UPPER(NEW.name) */;;\n"},
	{"/*!50013 DEFINER=`harbour master`@`localhost` SQL SECURITY DEFINER */\n", "/*!50013 SQL SECURITY DEFINER */\n"},
	{"/*!50001 VIEW `v` AS SELECT 1 */;\n", "/*!50001 VIEW `v` AS SELECT 1 */;\n"},
	{"GRANT ALL ON *.* TO 'keel'@'%';\n", "\n"},
	{"FLUSH PRIVILEGES;\n", "\n"},
	{"CREATE USER 'keel'@'%'\n  IDENTIFIED BY 'x';\n", "\n\n"},
}

// A dump of a whole server of another make is loaded into the part's database: line by line, what stays and what goes.
func TestForHere(t *testing.T) {
	var in, want strings.Builder
	for _, c := range lines {
		in.WriteString(c.in)
		want.WriteString(c.out)
	}
	var left dump.Left
	got, err := io.ReadAll(forHere(strings.NewReader(in.String()), &left))
	require.NoError(t, err)
	assert.Equal(t, want.String(), string(got))
	assert.Equal(t, []string{"settings of the whole server", "the name of its database, quay",
		"collations of MySQL 8: utf8mb4_unicode_ci is used",
		"definers: what it creates belongs to the application's user",
		"rights (GRANT)", "accounts (CREATE USER)"}, left.Out)
}
