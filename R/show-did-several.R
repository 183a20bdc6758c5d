# Effects over time side by side.

#' @export
format.twin_dids <- function(x, ...) {
  rlang::check_dots_empty()
  c(wrap_lines(dids_title(x)), "", dids_lines(x), "", wrap_lines(dids_sentence(x)), wrap_lines(dids_notes(x)),
    wrap_lines(did_seal(x$effects[[1L]])))
}

#' @export
print.twin_dids <- function(x, ...) print_lines(x, format(x, ...))

dids_title <- function(x) {
  first <- x$effects[[1L]]
  sprintf("Effects of %s%s on %s%s, %s; estimated by %s.", treatment_of(first$study), arms_words(x),
          outcome_phrase(first),
          if (is.null(x$by)) "" else paste(" within each", x$by), dids_average_words(x), did_method(first))
}

# " (nets and lines, each against "pots")".
arms_words <- function(x) {
  if (is.null(x$labels$arm)) return("")
  sprintf(" (%s, each against \"%s\")", and_list(unique(x$labels$arm)), x$effects[[1L]]$study$arms$reference)
}

# What the leading numbers average over: that of the first part with several dates, if any has.
dids_average_words <- function(x) {
  words <- unique(vapply(x$effects, average_words, ""))
  words[which.max(nchar(words))]
}

# One line per part; of averages by time or cohort one column per part.
dids_lines <- function(x) {
  if (!has_blocks(x)) return(table_lines(dids_table(x), left = ncol(x$labels)))
  table <- dids_wide(x)
  table_lines(fit_table(table, rev(names(table)[-(1:2)])))
}

has_blocks <- function(x) x$effects[[1L]]$over %in% c("event", "cohort", "calendar")

# Estimates with their standard errors in brackets.
dids_wide <- function(x, number = column_text) {
  tables <- lapply(x$effects, generics::tidy)
  terms <- unique(do.call(rbind, unname(lapply(tables, `[`, c("term", "event_time")))))
  last <- terms$term == "average"
  terms <- rbind(terms[!last, ][order(terms$event_time[!last]), ], terms[last, ])
  out <- data.frame(ifelse(is.na(terms$event_time), terms$term, terms$event_time))
  names(out) <- c(event = "Periods since", cohort = "Treated from", calendar = "In")[[x$effects[[1L]]$over]]
  for (named in names(x)) {
    own <- tables[[named]]
    cell <- ifelse(own$kind == "base", "base", sprintf("%s (%s)", trimws(number(own$estimate)),
                                                       trimws(number(own$std.error))))
    known <- cell[match(terms$term, own$term)]
    out[[named]] <- ifelse(is.na(known), "-", known)
  }
  out
}

dids_table <- function(x, number = column_text) {
  rows <- do.call(rbind, unname(lapply(x$effects, did_headline)))
  keys <- x$labels
  names(keys) <- c(arm = treatment_of(study_of(x)), group = x$by)[names(keys)]
  sizes <- vapply(x$effects, function(effect) {
    size <- cohort_sizes(effect$study)
    treated <- is_treated_cohort(effect$study)
    never <- uses_comparison(effect) && effect$asked$comparison == "never"
    c(sum(size[treated]), sum(size[!treated & (!never | effect$study$cohorts$position == Inf)]))
  }, c(0, 0))
  out <- cbind(keys, data.frame(
    treated = count_text(sizes[1L, ]), others = count_text(sizes[2L, ]), Effect = number(rows$estimate),
    SE = number(rows$std.error),
    interval = ifelse(is.na(rows$conf.low), "-", interval_text(rows$conf.low, rows$conf.high, number)),
    p = p_text(rows$p.value)
  ))
  names(out)[ncol(out) - 1L] <- paste(level_text(x$level), "interval")
  fit_table(out, c("p", "others", "treated"))
}

# How the parts differ from the first.
dids_sentence <- function(x) {
  if (has_blocks(x)) {
    return(paste("Standard errors in brackets. tidy() holds every row with its interval; tidy(part = \"groups\") gives",
                 "how each part differs from the first."))
  }
  rows <- differences_of_parts(x, x$level)
  rows <- rows[rows$term %in% c("difference", "average"), ]  # the numbers that lead
  if (NROW(rows) == 0L) return(NULL)
  shown <- utils::head(rows, 4L)
  words <- sprintf("%s differs from %s by %s%s", shown$first, shown$second, number_text(shown$difference),
                   vapply(seq_len(nrow(shown)), function(k) {
                     if (is.na(shown$conf.low[k])) return("")
                     sprintf(" (%s)", interval_phrase(x$level, shown$conf.low[k], shown$conf.high[k]))
                   }, ""))
  more <- nrow(rows) - nrow(shown)
  paste0(paste(words, collapse = "; "),
         if (more > 0L) sprintf("; %s more in tidy(part = \"groups\")", count_text(more)), ".")
}

dids_notes <- function(x) {
  each <- vapply(x$effects, function(effect) effect$inference, "")
  notes <- lapply(x$effects, function(effect) setdiff(did_footnotes(effect), did_error_note(effect)))
  shared <- Reduce(intersect, notes)
  own <- Map(function(effect, notes, named) {
    missing <- if (effect$missing > 0L) {
      sprintf("%s of the outcome missing and left out.", plural(effect$missing, "value"))
    }
    own <- c(missing, setdiff(notes, shared))
    if (length(own) > 0L) sprintf("%s: %s", named, paste(own, collapse = " "))
  }, x$effects, notes, names(x))
  c(paste0("Each part is estimated from its own units. Standard errors: ",
           if (length(unique(each)) == 1L) each[[1L]] else paste(names(x), each, sep = ": ", collapse = "; "), "."),
    shared, unlist(own, use.names = FALSE))
}

#' @export
plot.twin_dids <- function(x, ...) {
  rlang::check_dots_empty()
  first <- x$effects[[1L]]
  table <- generics::tidy(x)
  table$part <- factor(rep(names(x), vapply(x$effects, function(effect) nrow(effect$table), 0L)), names(x))
  facets <- ggplot2::facet_wrap(~part, ncol = if (length(x) > 3L) 2L else 1L)
  if (first$over == "event") return(path_plot(first, table) + facets)
  if (first$over %in% c("cohort", "calendar")) {
    table$label <- unlist(lapply(x$effects, function(effect) did_labels(effect, generics::tidy(effect))))
    return(dids_forest(x, table) + ggplot2::facet_grid(rows = ggplot2::vars(.data$part), scales = "free_y",
                                                       space = "free_y"))
  }
  rows <- do.call(rbind, unname(lapply(x$effects, did_headline)))
  rows$label <- names(x)
  dids_forest(x, rows)
}

dids_forest <- function(x, table) {
  first <- x$effects[[1L]]
  forest_plot(table, "difference") +
    ggplot2::labs(x = sprintf("effect, %s interval", level_text(x$level)), y = NULL, title = did_title(first),
                  subtitle = if (is.null(x$by)) sub("^ [(](.*)[)]$", "\\1.", arms_words(x)) else
                    sprintf("Within each %s.", x$by),
                  caption = did_caption(first))
}

#' @exportS3Method
table_parts.twin_dids <- function(x, number = column_text) { # nolint: object_name_linter. An S3 method.
  blocks <- has_blocks(x)
  table <- if (blocks) dids_wide(x, number) else dids_table(x, number)
  list(table = table, first = names(table)[1L], keys = table[[1L]], levels = rep(NA, nrow(table)),
       estimate = if (blocks) names(x)[1L] else "Effect", caption = did_title(x$effects[[1L]]),
       note = paste(c(dids_title(x), dids_sentence(x), dids_notes(x), do.call(caution_sentence, unname(x$effects))),
                    collapse = " "))
}
