#' @export
format.twin_study <- function(x, ...) {
  roles <- x$roles
  optional <- c(
    if (!is.null(roles$weight)) field_lines("Weight", roles$weight),
    count_lines(x),
    if (!is.null(roles$cluster)) field_lines("Cluster", group_text(roles$cluster, x$cluster)),
    if (!is.null(roles$stratum)) field_lines("Stratum", group_text(roles$stratum, x$stratum)),
    if (!is.null(roles$id)) field_lines("Id", roles$id)
  )
  c(
    wrap_lines(sprintf("Study: what did %s do to %s?", roles$treatment, and_list(roles$outcome))),
    field_lines("Asked for", sprintf("%s (%s)", estimands[[x$estimand]]$words, x$estimand)),
    field_lines("Treated", sprintf("%s is \"%s\": %s", roles$treatment, x$levels[["treated"]],
                                   plural(sum(x$z), "unit"))),
    field_lines("Control", sprintf("%s is \"%s\": %s", roles$treatment, x$levels[["control"]],
                                   plural(sum(1L - x$z), "unit"))),
    field_lines("", "Every difference is treated minus control."),
    field_lines("Outcome", outcome_text(x)),
    missing_outcome_lines(x),
    field_lines("Covariates", covariate_text(x)),
    if (!is.null(x$formula)) field_lines("Terms", study_terms(x)),
    field_lines("Missing", missing_text(x)),
    optional,
    study_label_lines(x),
    if (length(x$dropped) > 0L) {
      field_lines("Left out", paste(count_text(x$dropped), "rows,", names(x$dropped), collapse = "; "))
    },
    wrap_lines("Next: describe_groups() to see both arms, score_units() to start a design.")
  )
}

#' @export
print.twin_study <- function(x, ...) print_lines(x, format(x, ...))

# In prints; NULL where every row is one unit.
count_lines <- function(x) {
  if (is.null(x$row_of)) return(NULL)
  field_lines("Count", sprintf("%s: %s stand for %s", x$roles$frequency, plural(length(unique(x$row_of)), "row"),
                               plural(length(x$row_of), "unit")))
}

group_text <- function(name, codes) {
  count <- if (is.list(codes)) codes$count else length(attr(codes, "labels"))  # of a table in a database a count alone
  sprintf("%s (%s)", name, count_text(count))
}

# closed: what to say while nobody has looked.
outcome_text <- function(x, closed = "sealed until measure_effect() opens it") {
  events <- vapply(names(x$events), function(name) {
    if (is.na(x$events[[name]])) name else sprintf("%s (\"%s\" counts as 1)", name, x$events[[name]])
  }, "")
  book <- summary(logbook(x))
  paste0(paste(events, collapse = ", "), "; ", if (is.na(book$opened)) closed else paste("opened", book$opened))
}

# How many of each arm have no outcome, a line per outcome that misses some; a count opens nothing.
missing_outcome_lines <- function(x) {
  lines <- unlist(lapply(x$roles$outcome, function(name) {
    known <- outcome_known(x, name)
    if (all(known)) return(NULL)
    of_arm <- function(arm, word) {
      sprintf("%s of %s %s", count_text(sum(!known & x$z == arm)), count_text(sum(x$z == arm)), word)
    }
    field_lines("", sprintf("%s is missing for %s and %s units", name, of_arm(1L, "treated"), of_arm(0L, "control")))
  }))
  if (is.null(lines)) return(NULL)
  c(lines, field_lines("", paste("Without more an effect is about those who have one. missing_outcome = \"drop\" makes",
                                 "the design among them; weigh_responses() lets them stand in for the others.")))
}

kind_words <- c(numeric = "numeric", date = "date", binary = "yes/no", factor = "with levels")

covariate_text <- function(x) {
  kinds <- vapply(x$columns, `[[`, "", "kind")
  by_kind <- vapply(intersect(names(kind_words), kinds), function(kind) {
    paste0(kind_words[[kind]], ": ", paste(names(kinds)[kinds == kind], collapse = ", "))
  }, "")
  paste0(length(kinds), " in all. ", paste(by_kind, collapse = "; "))
}

missing_text <- function(x) {
  counts <- vapply(x$columns, `[[`, 0L, "missing")
  counts <- counts[counts > 0]
  if (length(counts) == 0L) return("no covariate values in the rows used")
  levelled <- vapply(x$columns[names(counts)], function(column) column$kind == "factor", NA)
  if (length(counts) > 6L) return(many_missing_text(counts, levelled))
  done <- ifelse(levelled, "a level of their own", "mean filled in, plus an indicator")
  paste(sprintf("%s %s (%s)", names(counts), count_text(counts), done), collapse = "; ")
}

# Many columns in a few lines: the worst of them by name; describe_groups() counts each.
many_missing_text <- function(counts, levelled) {
  most <- utils::head(sort(counts, decreasing = TRUE), 3L)
  filled <- count_text(sum(!levelled))
  done <- c(if (any(!levelled)) sprintf("means filled in, plus an indicator each, in %s of them", filled),
            if (any(levelled)) sprintf("a level of their own in %s", count_text(sum(levelled))))
  sprintf("%s values in %s columns, most in %s; %s. describe_groups() counts each column.", count_text(sum(counts)),
          count_text(length(counts)), and_list(sprintf("%s (%s)", names(most), count_text(most))),
          paste(done, collapse = ", "))
}

#' @export
format.twin_groups <- function(x, ...) {
  table <- groups_table(x)
  of_row <- attr(table, "groups")
  blocks <- lapply(unique(x$rows$group), function(group) {
    c(if (!is.na(group)) c(if (group != x$rows$group[1L]) "", group_heading(x, group)),
      table_lines(table[of_row %in% group, , drop = FALSE]))
  })
  c(
    wrap_lines(if (x$several) several_groups_text(x) else
      sprintf("Treated: %s is \"%s\" (%s units). Control: \"%s\" (%s units).", x$treatment,
              x$levels[["treated"]], count_text(x$counts[["treated"]]), x$levels[["control"]],
              count_text(x$counts[["control"]]))),
    "", unlist(blocks), "", wrap_lines(groups_note(x)), if (is.null(x$by)) group_missing_lines(x$rows),
    label_lines(x$labels)
  )
}

# With several comparisons each has numbers of units of its own.
group_heading <- function(x, group) {
  size <- x$sizes[[group]]
  if (!x$several) return(by_words(x$by, group))
  if (identical(x$by, "arm")) {
    return(sprintf("%s (%s units) against %s (%s)", group, count_text(size[1L]), x$levels[["control"]],
                   count_text(size[2L])))
  }
  sprintf("%s (%s treated, %s control)", if (x$by == "treated") paste("treated", group) else group,
          count_text(size[1L]), count_text(size[2L]))
}

several_groups_text <- function(x) {
  if (x$by == "treated") {
    return(sprintf("Every cohort against %s, in the first period.", if (x$levels[["control"]] == "never treated")
      "the units never treated" else "all others"))
  }
  if (x$by == "arm") {
    return(sprintf("Every arm of %s against \"%s\".", x$treatment, x$levels[["control"]]))
  }
  sprintf("Treated: %s is \"%s\". Control: \"%s\".", x$treatment, x$levels[["treated"]], x$levels[["control"]])
}

# The rows as text; everything in a cell, so that the table stays narrow.
groups_table <- function(x) {
  rows <- x$rows
  table <- data.frame(Covariate = row_name(rows$covariate, rows$level),
                      Treated = groups_cell(rows, "treated"), Control = groups_cell(rows, "control"))
  if (x$overall) table$Both <- groups_cell(rows, "all")
  table$Difference <- difference_cells(rows$difference, rows$kind)
  table$SE <- difference_cells(rows$std.error, rows$kind)
  table$SMD <- column_text(rows$smd)
  parts <- list(table = table, first = "Covariate", keys = rows$covariate, levels = rows$level,
                row = seq_len(nrow(rows)))
  if (x$tests) {
    parts <- with_factor_tests(c(parts, list(p.value = rows$p.value, note = "")), rows, rows$covariate)
  }
  table <- fit_table(parts$table, spare = c("SE", "Difference", "SMD"))
  attr(table, "groups") <- rows$group[parts$row]
  table
}

# Differences are in the unit of what they are differences of: of shares in percentage points.
difference_cells <- function(values, kind, number = column_text) {
  digits <- attr(number, "digits")
  digits <- if (is.null(digits)) 1 else digits
  points <- paste(formatC(round(100 * values, digits) + 0, digits = digits, format = "f"), "pp")  # + 0: no minus zero
  ifelse(is.na(values), "-", ifelse(kind %in% c("numeric", "date"), own_digits(number)(values), points))
}

groups_cell <- function(rows, arm) {
  mean <- rows[[paste0("mean_", arm)]]
  sd <- rows[[paste0("sd_", arm)]]
  numeric <- rows$kind %in% c("numeric", "date")
  count <- if (arm == "all") rows$n_treated + rows$n_control else rows[[paste0("n_", arm)]]
  cell <- ifelse(numeric, sprintf("%s (%s)", value_text(mean, rows$kind), number_text(sd)),
                 sprintf("%s (%s)", count_text(count), share_text(mean)))
  if (is.null(rows$shown) || arm == "all") return(cell)
  at <- function(part) {
    values <- rows[[paste0(part, "_", arm)]]
    ifelse(rows$kind == "date", value_text(values, rows$kind), number_text(values, decimal_places(abs(values)) - 1))
  }
  ifelse(rows$shown == "median", sprintf("%s [%s, %s]", at("median"), at("q25"), at("q75")), cell)
}

groups_note <- function(x) {
  medians <- !is.null(x$rows$shown) && any(x$rows$shown == "median")
  paste0(
    "Numeric rows: mean (sd)", if (medians) " or median [quartiles]", "; other rows: units (share). Difference is ",
    "treated minus control", if (medians) ", of means", ", of shares in percentage points (pp). SMD divides it by the ",
    reference_words[[x$reference]], ".",
    if (!is.null(x$imputed)) sprintf(" Means over %s; standard errors of differences are pooled.",
                                     plural(x$imputed, "imputed data set")),
    c(none = "", sampling = " Means and shares use the sampling weight; counts do not.",
      design = paste(" Means and shares use each design's weights, counts do not; SMD is by the sd before the design,",
                     "and standard errors take the weights as given."))[[x$weighted]],
    if (x$tests) paste(" Tests: t for one row, chi-squared for all levels of a column. They shrink with the number of",
                       "units whatever the imbalance; judge it by SMD.")
  )
}

reference_words <- c(treated = "treated units' sd", control = "control units' sd", pooled = "pooled sd of both arms",
                     all = "sd of both arms together")

# The labels that the data bring along, beside the names that are typed; NULL where there are none.
label_text <- function(labels, most = 12L) {
  plain <- tolower(gsub("[_.]", " ", names(labels)))  # a label that only repeats the name says nothing
  labels <- labels[nzchar(labels) & tolower(labels) != plain & labels != names(labels)]
  if (length(labels) == 0L) return(NULL)
  shown <- utils::head(labels, most)
  sprintf("%s%s.", paste0(names(shown), " = ", shown, collapse = "; "),
          if (length(labels) > most) sprintf("; and %d more", length(labels) - most) else "")
}

label_lines <- function(labels) {
  text <- label_text(labels)
  if (!is.null(text)) wrap_lines(paste("Labels:", text))
}

study_label_lines <- function(x) {
  labels <- vapply(x$columns, `[[`, "", "label")
  outcomes <- vapply(stats::setNames(nm = x$roles$outcome), function(name) column_label(x$data[[name]], name), "")
  text <- label_text(c(outcomes, labels))
  if (!is.null(text)) field_lines("Labels", text)
}

# Dates are kept as days; people read dates.
value_text <- function(x, kind, number = number_text) {
  ifelse(kind == "date", format(as.Date(x, origin = "1970-01-01")), own_digits(number)(x))
}

group_missing_lines <- function(rows) {
  first <- rows[!duplicated(rows$covariate), ]
  gaps <- first[first$missing_treated + first$missing_control > 0, ]
  if (nrow(gaps) == 0L) return(character())
  wrap_lines(paste0("Missing (treated, control): ", paste(sprintf(
    "%s %d, %d", gaps$covariate, gaps$missing_treated, gaps$missing_control), collapse = "; "), "."))
}

#' @export
print.twin_groups <- function(x, ...) print_lines(x, format(x, ...))

#' @export
format.twin_logbook <- function(x, ...) {
  book <- summary(x)
  entries <- x$entries
  what <- ifelse(entries$verb == "open", paste("outcome", entries$what, "opened"), entries$what)
  table <- data.frame(
    Step = entries$step, Time = entries$time, Verb = entries$verb, What = shorten(what, name_width(34L)),
    Worst = number_text(entries$worst_smd)
  )
  details <- entries[nzchar(entries$counts), ]
  c(
    "Logbook",
    table_lines(table, left = 4L),
    "",
    unlist(Map(function(step, counts) wrap_lines(sprintf("%d: %s", step, counts), 2L), details$step, details$counts)),
    "",
    wrap_lines(seal_sentence(book))
  )
}

# How many designs were tried on either side of the moment the outcome was opened.
seal_sentence <- function(book) {
  if (is.na(book$opened)) {
    return(sprintf("The outcome is still sealed; %s tried so far.", were_tried(book$before)))
  }
  sprintf("The outcome was first opened on %s: %s before, %d after.", book$opened, were_tried(book$before), book$after)
}

#' @export
print.twin_seal <- function(x, ...) print_lines(x, wrap_lines(seal_sentence(x)))

were_tried <- function(count) sprintf("%d design%s", count, if (count == 1L) "" else "s")

#' @export
print.twin_logbook <- function(x, ...) print_lines(x, format(x, ...))
