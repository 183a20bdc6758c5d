# Effects as papers print them: an effect a column, estimate over its standard error, facts below.

column_parts <- function(x, style, call = rlang::caller_env()) {
  if (inherits(x, "twin_balance")) return(balance_columns(x, style, call))
  number <- if (is.null(style$digits)) column_text else fixed_digits(style$digits)
  effects <- column_effects(x)
  rows <- lapply(effects, main_row)
  estimates <- number(vapply(rows, `[[`, 0, "estimate"))
  if (!is.null(style$stars)) estimates <- paste0(estimates, stars_of(vapply(rows, `[[`, 0, "p.value"), style$stars))
  errors <- sprintf("(%s)", number(vapply(rows, `[[`, 0, "std.error")))
  facts <- column_facts(effects, number)
  body <- rbind(estimates, errors, do.call(rbind, facts))
  first <- c(column_heading(effects), "", names(facts))
  table <- data.frame(first, body, check.names = FALSE)
  names(table) <- c("", column_names(effects))
  rownames(table) <- NULL
  parts <- list(table = labelled_columns(table, style$labels, call), caption = column_caption(effects),
                first = names(table)[1L], note = column_note(effects, style$stars))
  if (!is.null(style$columns)) parts$table <- pick_columns(parts$table, style$columns, call)
  parts
}

# Single effects by name, from a comparison, a set, an effect or a list.
column_effects <- function(x) {
  if (inherits(x, "twin_comparison")) return(x$effects)
  if (inherits(x, "twin_effects")) return(stats::setNames(x$effects, names(x)))
  if (inherits(x, "twin_effect")) return(stats::setNames(list(x), x$outcome))
  unlist(unname(Map(function(part, name) {
    inner <- column_effects(part)
    if (length(inner) == 1L) stats::setNames(inner, name) else
      stats::setNames(inner, paste(name, names(inner), sep = ": "))
  }, x, names(x))), recursive = FALSE)
}

# The data's own labels of outcomes need the outcome in the heading only where there are several.
column_names <- function(effects) make.unique(names(effects), " ")

column_heading <- function(effects) {
  first <- effects[[1L]]
  terms <- unique(vapply(effects, function(effect) main_term(main_number(effect)), ""))
  what <- if (identical(terms, "hazard_ratio")) "Hazard ratio" else "Effect"
  sprintf("%s of %s", what, treatment_of(first$study))
}

column_caption <- function(effects) {
  outcomes <- unique(vapply(effects, outcome_phrase, ""))
  sprintf("%s on %s", column_heading(effects), and_list(outcomes))
}

# What stands below the estimates: a row per fact that any effect has.
column_facts <- function(effects, number) {
  of <- function(fact) {
    cells <- vapply(effects, fact, "")
    if (any(nzchar(cells))) unname(cells)
  }
  several <- length(unique(vapply(effects, `[[`, "", "outcome"))) > 1L
  Filter(Negate(is.null), list(
    Outcome = if (several) of(outcome_phrase),
    "Mean of the controls" = of(function(x) {
      if ("mean_control" %in% names(x$estimate)) number(x$estimate[["mean_control"]]) else ""
    }),
    Estimand = of(function(x) x$estimand),
    "N treated" = of(function(x) if (is.null(x$counts)) "" else count_text(x$counts[["treated"]])),
    "N control" = of(function(x) if (is.null(x$counts)) "" else count_text(x$counts[["control"]])),
    Rows = of(function(x) if (inherits(x, "twin_did")) count_text(stats::nobs(x)) else ""),
    "Effective sample" = of(function(x) {
      if (anyNA(x$sizes)) "" else paste(count_text(round(x$sizes)), collapse = " + ")
    }),
    Clusters = of(function(x) {
      count <- cluster_count(x)
      if (count == 0L) "" else count_text(count)
    }),
    "Worst |SMD|" = of(function(x) if (is.na(x$worst_smd)) "" else number_text(x$worst_smd)),
    Design = of(function(x) {
      if (inherits(x, "twin_did") || x$design == "raw sample") "" else sparing_estimand(x$design, x$estimand)
    }),
    Estimator = of(function(x) gsub("_", " ", x$estimator)),
    Adjustment = of(function(x) if (inherits(x, "twin_did")) x$asked$adjustment else ""),
    "Fixed effects" = of(function(x) if (inherits(x, "twin_did")) fixed_effects_of(x) else "")
  ))
}

# How many clusters the errors are made from, the fewest of several ways; 0 where units count as independent.
cluster_count <- function(x) {
  if (inherits(x, "twin_did")) return(x$clusters)
  ways <- vapply(x$clusters, function(codes) length(unique(codes[x$rows[x$used]])), 0L)
  if (length(ways) == 0L) 0L else min(ways)
}

# Regressions take out units and periods; differences take them out by differencing.
fixed_effects_of <- function(x) {
  units <- if (isTRUE(x$study$repeats)) x$study$roles$unit else x$study$roles$group
  paste(c(units, x$study$roles$time, x$asked$absorbed), collapse = ", ")
}

column_note <- function(effects, cuts) {
  over_time <- inherits(effects[[1L]], "twin_did")
  levels <- effects[[1L]]$study$levels
  kinds <- vapply(effects, `[[`, "", "inference")
  missing <- vapply(effects, function(x) if (is.null(x$counts)) 0 else x$counts[["missing"]], 0)
  paste(c(
    if (!over_time) sprintf("Treated (%s) against control (%s), treated minus control.", levels[["treated"]],
                            levels[["control"]]),
    sprintf("In parentheses: standard errors (%s).", if (length(unique(kinds)) == 1L) kinds[[1L]] else
      paste(names(effects), kinds, sep = ": ", collapse = "; ")),
    if (!is.null(cuts)) sprintf("Stars: two-sided test of no effect; %s.", stars_text(cuts)),
    if (any(missing > 0)) left_out_sentence(missing), if (!over_time) unbalanced_sentence(effects),
    do.call(caution_sentence, unname(effects))
  ), collapse = " ")
}

# Labels of columns and of the rows below the estimates.
labelled_columns <- function(table, labels, call) {
  if (is.null(labels)) return(table)
  known <- c(names(table)[-1L], table[[1L]][nzchar(table[[1L]])])
  check_columns(names(labels), as.data.frame(as.list(stats::setNames(nm = known)), optional = TRUE), "labels", call)
  found <- match(names(table), names(labels))
  names(table)[!is.na(found)] <- labels[found[!is.na(found)]]
  found <- match(table[[1L]], names(labels))
  table[[1L]][!is.na(found)] <- labels[found[!is.na(found)]]
  table
}

# Means before and after side by side, with the reduction of |SMD|; of several designs their SMD and reductions.
balance_columns <- function(x, style, call) {
  number <- if (is.null(style$digits)) column_text else fixed_digits(style$digits)
  judged <- judged_samples(x)
  of <- function(sample) sample_rows(x, sample)
  before <- of("before")
  means <- function(rows, word) {
    of_arm <- function(values) value_text(values, rows$kind, number)
    out <- data.frame(of_arm(rows$mean_treated), of_arm(rows$mean_control))
    stats::setNames(out, paste(c("Treated", "Control"), word))
  }
  table <- data.frame(Covariate = labelled_rows(before, x$labels))
  if (!x$several) table <- cbind(table, means(before, "before"))
  table$`SMD before` <- number(before$smd)
  for (sample in setdiff(judged, "before")) {
    rows <- of(sample)
    word <- if (x$several) sample else "after"
    if (!x$several) table <- cbind(table, means(rows, "after"))
    table[[paste("SMD", word)]] <- number(rows$smd)
    table[[if (x$several) paste("reduction,", sample) else "reduction"]] <- reduction_text(rows$reduction)
  }
  last <- of(judged[length(judged)])
  if (!x$several) table$`variance ratio` <- number(last$variance_ratio)
  if (x$tests && !x$several) {
    table$t <- number_text(last$statistic)
    table$p <- p_text(last$p.value)
  }
  parts <- list(table = table, caption = paste("Balance before and after:", x$design), first = "Covariate",
                keys = before$covariate, levels = before$level, note = paste(verdict_text(x), balance_note(x)))
  if (!is.null(style$labels)) parts$table$Covariate <- relabel(parts, style$labels, call)
  if (!is.null(style$columns)) parts$table <- pick_columns(parts$table, style$columns, call)
  parts
}

reduction_text <- function(percent) ifelse(is.na(percent), "-", sprintf("%.0f%%", percent))
