# The register of database engines: what their SQL says differently. One entry each; adding an engine is adding its
# entry here. All computing is in double precision: integers overflow, and divide to integers.

# words: for prints. classes: of DBI connections. type: what doubles are called. number: function(x) giving the literal
# of a double. double: function of a column, it as a double, NULL where it is no number that is known. text: function of
# a column, it as text that is told apart letter by letter. days: function(column, timestamp), days since 1970-01-01.
# log, exp, power: names of these functions. fence: ends an inner SELECT so that the planner computes it once and does
# not paste it into every sum. most: output columns and characters of a statement. not_number: function of a column, a
# condition that is true where a column of numbers holds something else, NULL where the engine does not allow it.
# random: puts rows in random order. quotes: around names, doubled within them; escaped: characters that text in quotes
# has a backslash before.
new_dialect <- function(words, classes, type, fence = NULL, number = plain_literal, double, text, days, log = "LN",
                        exp = "EXP", power = "POWER", most = list(columns = 1000L, characters = 500000L),
                        not_number = function(column) NULL, random = "RANDOM()", quotes = "\"",
                        escaped = character()) {
  stopifnot(is.character(words), is.function(number), is.function(double), is.function(text), is.function(days))
  list(words = words, classes = classes, type = type, fence = fence, number = number, double = double, text = text,
       days = days, log = log, exp = exp, power = power, most = most, not_number = not_number, random = random,
       quotes = quotes, escaped = escaped)
}

# Every digit, negative numbers in parentheses.
plain_literal <- function(x) ifelse(x < 0, sprintf("(%.17e)", x), sprintf("%.17e", x))

dialects <- list(
  # Dates are text there, booleans numbers. log() is natural in the library that R brings.
  sqlite = new_dialect(
    "SQLite", "SQLiteConnection", "REAL", fence = "LIMIT -1",
    double = function(column) sprintf("CAST(%s AS REAL)", column),
    text = function(column) sprintf("CAST(%s AS TEXT)", column),
    days = function(column, timestamp) sprintf("(julianday(%s) - 2440587.5)", column), log = "LOG",
    not_number = function(column) sprintf("typeof(%s) NOT IN ('integer', 'real', 'null')", column)
  ),
  postgres = new_dialect(
    "PostgreSQL", c("PqConnection", "PostgreSQLConnection"), "double precision", fence = "OFFSET 0",
    number = function(x) sprintf("(%.17e::float8)", x),
    double = function(column) sprintf("NULLIF(CAST(%s AS double precision), 'NaN'::float8)", column),
    text = function(column) sprintf("CAST(%s AS text) COLLATE \"C\"", column),
    days = function(column, timestamp) {
      if (timestamp) sprintf("(EXTRACT(EPOCH FROM %s)::float8 / 86400.0)", column)
      else sprintf("(%s - DATE '1970-01-01')::float8", column)
    },
    most = list(columns = 1600L, characters = 1000000L)
  ),
  mariadb = new_dialect(
    "MariaDB", c("MariaDBConnection", "MySQLConnection"), "DOUBLE", fence = "LIMIT 18446744073709551615",
    double = function(column) sprintf("CAST(%s AS DOUBLE)", column),
    text = function(column) sprintf("CONVERT(%s USING utf8mb4) COLLATE utf8mb4_bin", column),
    days = function(column, timestamp) {
      if (timestamp) sprintf("(TIMESTAMPDIFF(MICROSECOND, '1970-01-01', %s) / 8.64e10)", column)
      else sprintf("CAST(DATEDIFF(%s, '1970-01-01') AS DOUBLE)", column)
    },
    random = "RAND()", quotes = "`", escaped = "\\"
  ),
  standard = new_dialect(
    "standard SQL", character(), "DOUBLE PRECISION",
    double = function(column) sprintf("CAST(%s AS DOUBLE PRECISION)", column),
    text = function(column) sprintf("CAST(%s AS VARCHAR(4000))", column),
    days = function(column, timestamp) sprintf("CAST(%s - DATE '1970-01-01' AS DOUBLE PRECISION)", column)
  )
)

# The name of the entry for a connection.
dialect_of <- function(connection) {
  known <- vapply(dialects, function(entry) inherits(connection, entry$classes), NA)
  if (any(known)) return(names(dialects)[known][1L])
  warn_kind("engine", c(
    "The engine behind {.cls {class(connection)[1L]}} is not known here: it is spoken to in standard SQL.",
    i = "Compare a few numbers with those of a sample in memory before you rely on them."
  ))
  "standard"
}
