package mariadb

import (
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/dump"
	"dravit/internal/sqltext"
)

// A dump of a whole server of another make is loaded into the part's database: what stays and what goes.
func TestForHere(t *testing.T) {
	text := "/*!999999\\- enable the sandbox mode */ \n-- MySQL dump 10.13  Distrib 8.0.36\n" +
		"SET @@SESSION.SQL_LOG_BIN= 0;\nSET @@GLOBAL.GTID_PURGED=/*!80000 '+'*/ 'a:1-5,\nb:7';\n" +
		"CREATE DATABASE /*!32312 IF NOT EXISTS*/ `quay` /*!40100 DEFAULT CHARACTER SET utf8mb4 */;\n" +
		"/*!40000 DROP DATABASE IF EXISTS `quay`*/;\n  use `quay`;\n" +
		"CREATE TABLE `boats` (\n  `use` varchar(9) COLLATE utf8mb4_0900_ai_ci DEFAULT NULL\n) " +
		"COLLATE=utf8mb4_0900_ai_ci;\n" +
		"INSERT INTO `boats` VALUES\n(1,'CREATE DEFINER=`a`@`b` in utf8mb4_0900_ai_ci'),\n(2,'x\nGRANT is a text');\n" +
		"DELIMITER ;;\n/*!50003 CREATE*/ /*!50017 DEFINER=`root`@`%`*/ /*!50003 TRIGGER t BEFORE INSERT ON boats " +
		"FOR EACH ROW\nSET NEW.name = UPPER(NEW.name); */;;\nDELIMITER ;\n" +
		"/*!50001 CREATE ALGORITHM=UNDEFINED */\n" +
		"/*!50013 DEFINER=`harbour master`@`localhost` SQL SECURITY DEFINER */\n" +
		"/*!50001 VIEW `v` AS SELECT 'DEFINER=`a`@`b`' */;\n" +
		"grant ALL ON *.* TO 'keel'@'%';\nFLUSH PRIVILEGES;\nCREATE USER 'keel'@'%'\n  IDENTIFIED BY 'x';\n"
	var left dump.Left
	var got []string
	for in := sqltext.New(strings.NewReader(text), syntax); ; {
		s, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		if sql := forHere(s, &left); sql != nil {
			got = append(got, string(sql))
		}
	}
	assert.Equal(t, []string{
		"CREATE TABLE `boats` (\n  `use` varchar(9) COLLATE utf8mb4_unicode_ci DEFAULT NULL\n) " +
			"COLLATE=utf8mb4_unicode_ci",
		"INSERT INTO `boats` VALUES\n(1,'CREATE DEFINER=`a`@`b` in utf8mb4_0900_ai_ci'),\n(2,'x\nGRANT is a text')",
		"/*!50003 CREATE*/ /*!50017 */ /*!50003 TRIGGER t BEFORE INSERT ON boats FOR EACH ROW\n" +
			"SET NEW.name = UPPER(NEW.name); */",
		"/*!50001 CREATE ALGORITHM=UNDEFINED */\n/*!50013 SQL SECURITY DEFINER */\n" +
			"/*!50001 VIEW `v` AS SELECT 'DEFINER=`a`@`b`' */",
	}, got)
	assert.Equal(t, []string{"settings of the whole server", "the name of its database, quay",
		"collations of MySQL 8: utf8mb4_unicode_ci is used",
		"definers: what it creates belongs to the application's user",
		"rights (GRANT)", "accounts (CREATE USER)"}, left.Out)
}
