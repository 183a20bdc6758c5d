# Judging designs on a table in a database.

# The table of balance from sums and spreads; rows on request need the rows.
remote_balance <- function(designs, limits, reference, extra, custom, by, tests, call) {
  asked <- c("factors" = "factors" %in% extra, custom = length(custom) > 0L, by = !is.null(by), tests = tests,
             reference = reference$from == "all")
  refuse_row_options(names(asked)[asked], call)
  check_same_rows(lapply(designs, study_of), call)
  study <- study_of(designs[[1L]])
  more <- extra_columns(designs, extra, call)
  wide <- if (length(more) > 0L) amend(study, columns = c(study$columns, more)) else study
  reference <- find_given(reference, wide, call)
  made <- Filter(alters_sample, designs)
  weights <- c(list(before = quote(u_s)), lapply(made, remote_full_weight))
  samples <- if (length(more) > 0L) sample_moments(wide, weights, balance_parts(wide)) else
    c(design_moments(study)["before"], lapply(made, function(design) design_moments(design)$after))
  yardstick <- balance_yardstick(wide, samples$before, reference, FALSE)
  sizes <- lapply(samples, attr, "sizes")
  gaps <- add_distribution_gaps(samples, wide, weights)
  samples <- gaps$moments
  rows <- Map(function(rows, sample) finish_rows(rows, yardstick, limits, sample), samples, names(samples))
  rows <- do.call(rbind, unname(lapply(rows, add_reduction, before = rows$before)))
  covariance <- core_covariance_of(remote_products(study, remote_matrix(study$columns)))
  totals <- do.call(rbind, lapply(names(samples), function(sample) {
    data.frame(sample = sample, group = NA_character_, ess_treated = sizes[[sample]][["treated"]],
               ess_control = sizes[[sample]][["control"]],
               mahalanobis = core_mahalanobis_length(mean_gaps(study, rows[rows$sample == sample, ]), covariance))
  }))
  balance <- new_balance(rows, list(
    limits = limits, reference = reference, labels = vapply(wide$columns, `[[`, "", "label"), levels = study$levels,
    design = paste(unique(vapply(designs, design_label, "")), collapse = "; "), estimand = study$estimand,
    totals = totals, by = NULL, tests = FALSE, study = wide, weights = NULL, several = length(designs) > 1L,
    coarse = gaps$coarse
  ))
  log_balance(balance, extra, by)
  balance
}

# The table of both arms before any design.
remote_groups_table <- function(study, columns, summary, by, overall, tests, call) {
  asked <- c(columns = !is.null(columns), summary = summary != "mean", by = !is.null(by), tests = tests)
  refuse_row_options(names(asked)[asked], call)
  parts <- described_parts(study)
  found <- described_moments(study, parts)
  errors <- described_errors(study, parts, found)
  rows <- do.call(rbind, Map(function(part, at, se) {
    described_row(part, at, se, overall)
  }, parts, found, errors))
  sd <- core_reference_sd(rows$sd_treated^2, rows$sd_control^2, reference_arm(study$estimand))
  smd <- standardized(rows$difference, sd)
  place <- match("n", names(rows))
  rows <- cbind(group = NA_character_, rows[seq_len(place)], smd = smd, rows[-seq_len(place)])
  rownames(rows) <- NULL
  structure(list(
    rows = rows, labels = vapply(study$columns, `[[`, "", "label"), levels = study$levels, estimand = study$estimand,
    treatment = study$roles$treatment, counts = study$size, weighted = if (study$weighted) "sampling" else "none",
    cluster = study$roles$cluster, stratum = study$roles$stratum, reference = reference_arm(study$estimand), by = NULL,
    several = FALSE, overall = overall, tests = FALSE, sizes = list(unname(study$size))
  ), class = "twin_groups")
}

# Rows of the table of balance but for missing values, which are left out of their column's mean. present: a call, 1
# where the value is known; absent: where it is missing.
described_parts <- function(study) {
  parts <- Filter(function(part) part$kind != "missing", balance_parts(study))
  lapply(parts, function(part) {
    column <- study$columns[[part$covariate]]
    part$present <- if (is.null(column$flag)) 1 else bquote((1 - .(column$flag)))
    part$absent <- if (!is.null(column$flag)) column$flag else if (column$kind == "factor" && column$missing > 0L) {
      level_word(column, length(column$levels))
    }
    part
  })
}

described_moments <- function(study, parts) {
  rows <- study$rows
  arms <- arm_words
  exprs <- unlist(lapply(seq_along(parts), function(k) {
    part <- parts[[k]]
    away <- if (part$centre == 0) part$word else say_word(rows, "c", call("-", part$word, part$centre))
    share <- !part$kind %in% c("numeric", "date")
    own <- lapply(arms, function(arm) {
      here <- multiplied(part$present, arm)
      v <- say_word(rows, "a", multiplied(quote(u_s), here))
      list(v = v, v2 = call("*", v, v), first = call("*", v, away), second = bquote(.(v) * .(away) * .(away)),
           count = if (share) multiplied(here, part$word) else here, n = here,
           missing = if (is.null(part$absent)) 0 else multiplied(part$absent, arm))
    })
    stats::setNames(unlist(own), paste(k, names(unlist(own))))
  }))
  sums <- row_sums(rows, exprs)
  lapply(seq_along(parts), function(k) {
    lapply(names(arms), function(arm) {
      of <- vapply(c("v", "v2", "first", "second", "count", "n", "missing"),
                   function(what) sums[[paste(k, paste(arm, what, sep = "."))]], 0)
      mean <- parts[[k]]$centre + of[["first"]] / of[["v"]]
      share <- !parts[[k]]$kind %in% c("numeric", "date")
      c(of, mean = mean, variance = if (share) mean * (1 - mean) else
        core_variance_of(of[["v"]], of[["v2"]], of[["first"]], of[["second"]]))
    })
  })
}

# Standard errors of the differences, clustered and stratified as the study says.
described_errors <- function(study, parts, found) {
  rows <- study$rows
  words <- Map(function(part, at) {
    one <- function(arm, own) bquote(.(arm) * (.(part$word) - .(own[["mean"]])) / .(own[["v"]]))
    gap <- call("-", one(arm_words$treated, at[[1L]]), one(arm_words$control, at[[2L]]))
    say_word(rows, "f", multiplied(part$present, bquote(u_s * (.(gap)))))
  }, parts, found)
  keys <- remote_keys(study)
  if (length(keys) == 0L) {
    square <- row_sums(rows, unname(lapply(words, function(f) call("*", f, f))))
    counted <- vapply(found, function(at) at[[1L]][["n"]] + at[[2L]][["n"]], 0)
    return(sqrt(square * counted / (counted - 1)))
  }
  present <- lapply(parts, `[[`, "present")
  k <- seq_along(parts)
  exprs <- stats::setNames(c(words, present), c(sprintf("f%d", k), sprintf("n%d", k)))
  if (is.null(keys$cluster)) {
    squares <- stats::setNames(lapply(words, function(f) call("*", f, f)), sprintf("q%d", k))
    sums <- row_sums_by(rows, c(exprs, squares, list(.rows = quote(0 * u_z + 1))), keys$stratum)
    return(vapply(k, function(k) {
      own <- within_strata(sums, keys$stratum, sprintf("f%d", k), sprintf("q%d", k), sprintf("n%d", k))
      sqrt(core_vcov_of(own, "centre")$vcov[1L, 1L])
    }, 0))
  }
  sums <- row_sums_by(rows, exprs, unlist(keys))
  stratum <- if (is.null(keys$stratum)) rep(1L, nrow(sums)) else sums[[keys$stratum]]
  vapply(seq_along(parts), function(k) {
    out <- core_vcov_of(list(totals = as.matrix(sums[sprintf("f%d", k)]), stratum = stratum,
                             counts = sums[[sprintf("n%d", k)]] > 0, n = 1), "centre")
    sqrt(out$vcov[1L, 1L])
  }, 0)
}

described_row <- function(part, at, se, overall) {
  treated <- at[[1L]]
  control <- at[[2L]]
  row <- data.frame(
    covariate = part$covariate, level = part$level, kind = part$kind, n_treated = treated[["count"]],
    n_control = control[["count"]], missing_treated = treated[["missing"]], missing_control = control[["missing"]],
    mean_treated = treated[["mean"]], mean_control = control[["mean"]], sd_treated = sqrt(treated[["variance"]]),
    sd_control = sqrt(control[["variance"]]), difference = treated[["mean"]] - control[["mean"]],
    std.error = unname(se), n = treated[["n"]] + control[["n"]]
  )
  if (!overall) return(row)
  both <- treated + control
  mean <- part$centre + both[["first"]] / both[["v"]]
  variance <- if (part$kind %in% c("numeric", "date")) {
    core_variance_of(both[["v"]], both[["v2"]], both[["first"]], both[["second"]])
  } else {
    mean * (1 - mean)
  }
  cbind(row, mean_all = mean, sd_all = sqrt(variance))
}

# Columns less their weighted means, as words.
centred_words <- function(study, columns) {
  if (length(columns) == 0L) return(list())
  words <- lapply(columns, `[[`, "word")
  sums <- row_sums(study$rows, c(list(.all = quote(u_s)), lapply(words, function(word) call("*", quote(u_s), word))))
  Map(function(word, sum) say_word(study$rows, "c", call("-", word, sum / sums[[".all"]])), words, sums[-1L])
}
