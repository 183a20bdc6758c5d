# Time: from a column of numbers, dates, quarters or ordered text to places on a regular grid, and back to labels.

# list(kind, raw = function(values) doubles, label = function(raw) text, at = raw value per row, origin, step, seen =
# raw values of the periods in the data). Periods are `step` apart; where the gaps are irregular, or time is ordered
# text, they are counted by rank.
time_scale <- function(x, name, periods, call) {
  kind <- time_kind(x, name, periods, call)
  raw <- on_distinct(x, kind$raw)
  check_time_read(raw, x, name, call)
  seen <- sort(unique(raw))
  if (length(seen) < 2L) {
    abort_input(c("The time {.val {name}} must have at least 2 periods.", x = "It has {length(seen)}."),
                column = name, call = call)
  }
  c(kind, list(at = raw, seen = seen, origin = seen[1L], step = regular_step(seen)))
}

# A column has far fewer different values than rows.
on_distinct <- function(x, read) {
  distinct <- unique(x)
  read(distinct)[match(x, distinct)]
}

time_kind <- function(x, name, periods, call) {
  if (!is.null(periods)) return(listed_time(x, name, periods, call))
  if (is.ordered(x)) return(listed_time(x, name, levels(x), call))
  if (inherits(x, c("Date", "POSIXt"))) return(date_time(as_day(x)))
  if (is.numeric(x) && !inherits(x, "integer64")) {
    return(list(kind = "number", raw = as.double, label = function(raw) format(raw, trim = TRUE, digits = 10)))
  }
  written_time(x, name, call)
}

as_day <- function(x) if (inherits(x, "POSIXt")) as.Date(x, tz = "UTC") else x

# Months when every date is of the same day of the month, days otherwise.
date_time <- function(x) {
  day <- format(x[!is.na(x)], "%d")
  if (length(unique(day)) > 1L) {
    return(list(kind = "date", raw = function(values) as.double(as_day(as_date(values))),
                label = function(raw) format(as.Date(raw, origin = "1970-01-01"))))
  }
  list(kind = "date", raw = function(values) month_number(as_day(as_date(values))),
       label = function(raw) sprintf("%d-%02d-%s", as.integer(raw %/% 12), as.integer(raw %% 12) + 1L, day[1L]))
}

as_date <- function(values) if (inherits(values, c("Date", "POSIXt"))) values else as.Date(as.character(values))

month_number <- function(day) as.integer(format(day, "%Y")) * 12 + as.integer(format(day, "%m")) - 1

listed_time <- function(x, name, periods, call) {
  if (!is.atomic(periods) || length(periods) == 0L || anyNA(periods)) {
    abort_input(c("{.arg periods} must list the periods in order.", x = "It is {describe_value(periods)}."),
                call = call)
  }
  periods <- as.character(periods)
  if (anyDuplicated(periods) > 0L) abort_input("{.arg periods} must not repeat a period.", call = call)
  unknown <- setdiff(as.character(x[!is.na(x)]), periods)
  if (length(unknown) > 0L) {
    abort_input(c("{.arg periods} must list every period of {.val {name}}, in order.",
                  x = "It lacks {.val {utils::head(unknown, 3)}}."), column = name, call = call)
  }
  list(kind = "listed", raw = function(values) as.double(match(as.character(values), periods)),
       label = function(raw) periods[raw])
}

# Text whose order is written in it: numbers, 2021Q1, Q1 2021, 2021-03, Mar 2021, 3/2021, 2021-03-31.
written_time <- function(x, name, call) {
  text <- trimws(as.character(x))
  all_like <- function(pattern) all(grepl(pattern, text[!is.na(text)]))
  if (all_like("^-?[0-9]+([.][0-9]+)?$")) {
    return(list(kind = "number", raw = function(values) suppressWarnings(as.double(as.character(values))),
                label = function(raw) format(raw, trim = TRUE, digits = 10)))
  }
  if (all_like("^[0-9]{4}-[0-9]{2}-[0-9]{2}$")) return(date_time(as.Date(text)))
  for (kind in c("quarter", "month")) {
    read <- function(values) parts_of_year(values, kind)
    if (!anyNA(read(text[!is.na(text)]))) {
      return(list(kind = kind, raw = read, label = if (kind == "quarter") quarter_label else month_label))
    }
  }
  abort_input(c(
    "The order of the periods in {.val {name}} can't be read.",
    x = "Its values are text such as {.val {utils::head(unique(text), 3)}}.",
    i = "Give them in order: {.code periods = c(\"...\", ...)}, or use numbers, dates, \"2021Q1\", \"Q1 2021\",
         \"2021-03\" or \"Mar 2021\"."
  ), column = name, call = call)
}

quarter_label <- function(raw) sprintf("%dQ%d", as.integer(raw %/% 4), as.integer(raw %% 4) + 1L)
month_label <- function(raw) sprintf("%d-%02d", as.integer(raw %/% 12), as.integer(raw %% 12) + 1L)

# Year and quarter or month, in either order, as a count of quarters or months; NA for what is neither. A bare number
# before the year is a quarter, and a month where any is above 4 (quarters are tried first, on all values).
parts_of_year <- function(values, kind) {
  text <- tolower(trimws(as.character(values)))
  part <- if (kind == "quarter") "q[1-4]" else paste0(paste(tolower(month.name), collapse = "|"), "|",
                                                       paste(tolower(month.abb), collapse = "|"))
  bare <- if (kind == "quarter") "[1-4]" else "0?[1-9]|1[0-2]"
  year_first <- sprintf("^([0-9]{4})[-_ /]?(%s)$", if (kind == "month") paste0(part, "|0[1-9]|1[0-2]") else part)
  year_last <- sprintf("^(%s|%s)[-_ /.]?([0-9]{4})$", part, bare)
  found <- ifelse(grepl(year_first, text), sub(year_first, "\\2 \\1", text),
                  ifelse(grepl(year_last, text), sub(year_last, "\\1 \\2", text), NA))
  word <- sub(" .*", "", found)
  number <- suppressWarnings(as.double(sub("^q", "", word)))
  named <- is.na(number) & !is.na(word)
  number[named] <- match(substr(word[named], 1L, 3L), tolower(month.abb))
  as.double(sub(".* ", "", found)) * (if (kind == "quarter") 4 else 12) + number - 1
}

check_time_read <- function(raw, x, name, call) {
  bad <- which(!is.finite(raw))
  if (length(bad) == 0L) return(invisible(raw))
  abort_input(c("The time {.val {name}} must not be missing.",
                x = "It is in {length(bad)} row{?s}; first: {first_rows(bad)}."),
              column = name, rows = bad, call = call)
}

# The distance between periods when all gaps are whole multiples of it, NA otherwise.
regular_step <- function(seen) {
  gaps <- diff(seen)
  step <- if (all(gaps == round(gaps))) Reduce(greatest_divisor, gaps) else min(gaps)
  if (all(abs(gaps / step - round(gaps / step)) < 1e-6)) step else NA_real_
}

greatest_divisor <- function(a, b) {
  while (b > 0) {
    rest <- a %% b
    a <- b
    b <- rest
  }
  a
}

# Places on the grid, the first period being 1; by rank where there is no grid (then the first period from a value on).
time_position <- function(raw, scale) {
  if (is.na(scale$step)) return(findInterval(raw, scale$seen, left.open = TRUE) + 1)
  (raw - scale$origin) / scale$step + 1
}

position_label <- function(position, scale) {
  raw <- if (is.na(scale$step)) scale$seen[pmin(position, length(scale$seen))] else
    scale$origin + (position - 1) * scale$step
  vapply(raw, scale$label, "")
}
