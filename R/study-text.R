# Numbers and counts as text, for labels, messages and prints.

# Three significant places or so, the same wherever a number is shown; NA is a dash.
number_text <- function(x, places = decimal_places(abs(x))) {
  size <- abs(x)
  places <- rep_len(places, length(x))
  text <- vapply(seq_along(x), function(i) {
    if (is.na(x[i])) return("-")
    if (is.infinite(x[i])) return(if (x[i] > 0) "Inf" else "-Inf")
    if (size[i] > 1e-10 && size[i] < 5e-4) return(formatC(x[i], digits = 1, format = "e"))
    formatC(x[i], digits = max(0, places[i]), format = "f", big.mark = ",")
  }, "")
  sub("^-(0\\.?0*)$", "\\1", text)
}

# A column of numbers in one unit, all with the same decimals; a column of tiny ones in powers of ten.
column_text <- function(x, places = shared_places(x)) {
  if (is.na(places)) return(number_text(x))
  ifelse(is.finite(x), sub("^-(0\\.?0*)$", "\\1", formatC(x, digits = places, format = "f", big.mark = ",")),
         number_text(x))
}

# The decimals of the largest, or so many that the first digit of the smallest can be seen (one more beside numbers
# above 100); NA where no fixed number of decimals would do.
shared_places <- function(x) {
  size <- abs(x[is.finite(x) & x != 0])
  if (length(size) == 0L) return(NA)
  top <- max(size)
  if (top < 5e-4) return(NA)
  least <- min(size[size >= 5e-4])
  min(3, max(decimal_places(top), ceiling(-log10(least)) + (top >= 100 && least < 1)))
}

# A number beyond a limit, with so many decimals that one sees it.
beyond_text <- function(value, limit) {
  for (places in 3:6) if (round(value, places) != limit) break
  number_text(value, places)
}

# For columns whose rows are in different units: each number with its own decimals, unless their number is fixed.
own_digits <- function(number) if (is.null(attr(number, "digits"))) number_text else number

# What formats numbers with so many decimals everywhere.
fixed_digits <- function(digits) structure(function(x) column_text(x, digits), digits = digits)

count_text <- function(x) formatC(x, format = "d", big.mark = ",")

decimal_places <- function(size) ifelse(size >= 1000, 0, ifelse(size >= 100, 1, ifelse(size >= 1, 2, 3)))

# number: see fixed_digits(); of other ways to write numbers shares know nothing.
share_text <- function(x, number = NULL) {
  digits <- attr(number, "digits")
  paste0(formatC(100 * x, digits = if (is.null(digits)) 1 else digits, format = "f"), "%")
}

p_text <- function(p) ifelse(is.na(p), "-", ifelse(p < 0.001, "<0.001", formatC(p, digits = 3, format = "f")))

# All limits with the same decimals; of rows in units of their own, both limits of each.
interval_text <- function(low, high, number = column_text) {
  if (identical(number, number_text) && length(low) > 1L) {
    return(unlist(Map(interval_text, low, high), use.names = FALSE))
  }
  if (identical(number, number_text)) number <- column_text
  limits <- number(c(low, high))
  ifelse(is.na(low) & is.na(high), "-", paste(limits[seq_along(low)], "to", limits[length(low) + seq_along(high)]))
}

# In a sentence, in brackets: "95% interval 0.1 to 0.4".
interval_phrase <- function(level, low, high) {
  if (is.na(low) && is.na(high)) return("no interval: nothing tells its error")
  sprintf("%s interval %s", level_text(level), interval_text(low, high))
}

# Ends of a range of scores, three decimals each.
score_range_text <- function(low, high) paste(number_text(low, 3), "to", number_text(high, 3))

level_text <- function(level) paste0(format(100 * level), "%")

# Names cut to a width; those that would look alike keep their ends too, or get a number.
shorten <- function(text, width) {
  text <- shown_text(text)
  long <- nchar(text, "width") > width
  cut <- ifelse(long, paste0(substr(text, 1L, width - 3L), "..."), text)
  end <- (width - 3L) %/% 2L
  for (attempt in 1:2) {
    alike <- long & cut %in% cut[!duplicated(text)][duplicated(cut[!duplicated(text)])]
    if (!any(alike)) break
    cut[alike] <- if (attempt == 1L) {
      paste0(substr(text[alike], 1L, width - 3L - end), "...", substring(text[alike], nchar(text[alike]) - end + 1L))
    } else {
      which_one <- match(text[alike], unique(text[alike]))
      paste0(substr(text[alike], 1L, width - 4L - nchar(which_one)), "...#", which_one)
    }
  }
  cut
}

# Text whose bytes are no letters is shown by its bytes, so that a message about it can be written.
shown_text <- function(text) {
  bad <- !is.na(text) & !validUTF8(text)
  if (any(bad)) text[bad] <- iconv(text[bad], "UTF-8", "UTF-8", sub = "byte")
  text
}

and_list <- function(words) {
  if (length(words) < 2L) return(words)
  paste(paste(words[-length(words)], collapse = ", "), "and", words[length(words)])
}

# The label of a design where its estimand is told already.
sparing_estimand <- function(label, estimand) {
  gsub(sprintf("(%s, ", estimand), "(", gsub(sprintf(" (%s)", estimand), "", label, fixed = TRUE), fixed = TRUE)
}

plural <- function(count, word, many = paste0(word, "s")) paste(count_text(count), if (count == 1L) word else many)

# "port_size: large", "boat_length": how a row about a covariate or one of its levels is named everywhere.
row_name <- function(covariate, level) ifelse(is.na(level), covariate, paste0(covariate, ": ", level))

# A group of units in words: by which column, and which of its values.
by_words <- function(by, group) paste0(sub("^\\.stratum$", "stratum", by), ": ", group)

# "11 of 12 rows pass", "the only row passes".
pass_words <- function(s) {
  ifelse(s$rows == 1L, ifelse(s$passing == 1L, "the only row passes", "the only row fails"),
         sprintf("%d of %d rows pass", s$passing, s$rows))
}

# NA where an entry is no number; decimal commas count where no entry has a point.
numbers_in_text <- function(text) {
  text <- trimws(text)
  if (!any(grepl(".", text, fixed = TRUE))) text <- sub(",", ".", text, fixed = TRUE)
  suppressWarnings(as.numeric(text))
}

# "numbers" or "dates" where nearly all of many different entries are; else NULL.
hidden_kind <- function(levels) {
  if (length(levels) <= 10L) return(NULL)
  for (kind in c("numbers", "dates")) if (length(stray_entries(levels, kind)) <= 0.2 * length(levels)) return(kind)
  NULL
}

stray_entries <- function(levels, kind) {
  good <- if (kind == "numbers") !is.na(numbers_in_text(sub(",", ".", levels, fixed = TRUE))) else
    grepl("^([0-9]{1,2}[./-][0-9]{1,2}[./-][0-9]{4}|[0-9]{4}-[0-9]{2}-[0-9]{2})$", levels)
  levels[!good]
}

# Of two values the one that plainly means yes: 1 beside 0, TRUE beside FALSE, yes beside no, in any case of letters;
# NULL where neither does. Treatments and outcomes are read alike.
plain_yes <- function(text) {
  for (pair in list(c("0", "1"), c("false", "true"), c("no", "yes"))) {
    if (setequal(tolower(text), pair) && length(text) == 2L) return(text[tolower(text) == pair[2L]])
  }
  NULL
}
