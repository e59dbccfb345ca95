# Runs a tool of the office: sh tools/office.sh NAME DRAVIT
# If the stack runs PHP, that one stands first on PATH, and runs tools/NAME.php. On a machine without a PHP that fits,
# Dravit itself does the same, as it does for the pages.
case $(command -v php) in
*/conf/app/bin/php) exec php "tools/$1.php" ;;
*) exec "$2" internal "demo-$1" ;;
esac
