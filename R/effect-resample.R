# Standard errors by running the whole design anew: bootstrap, jackknife, replicate weights (Methods, "Standard
# errors").

# The effects with the variance of the replicates, and the joint covariance of all their terms. plan: list(size,
# weights = function(k), counts = function(k) or NULL, vcov = function(draws, estimate), df, text).
resample_effects <- function(x, effects, blocks, asked, call = rlang::caller_env()) {
  plan <- switch(asked$inference, bootstrap = bootstrap_plan(x, asked, call),
                 jackknife = jackknife_plan(x, effects, asked, call), replicates = replicate_plan(x, asked))
  estimate <- unlist(lapply(effects, `[[`, "estimate"))
  terms <- lapply(effects, function(effect) names(effect$estimate))
  draws <- if (is.null(plan$draws)) run_replicates(x, blocks, asked, plan, terms) else plan$draws
  draws <- check_draws(draws, plan$size, call)
  vcov <- plan$vcov(draws, estimate)
  dimnames(vcov) <- list(names(estimate), names(estimate))
  place <- split(seq_along(estimate), rep(seq_along(effects), lengths(terms)))
  effects <- Map(function(effect, at) {
    failed <- plan$size - nrow(draws)
    words <- c(plan$text, if (failed > 0L) paste(count_text(failed), "failed"), given_phrase(held_in_draws(x)))
    amend_effect(effect, vcov = vcov[at, at, drop = FALSE], df = plan$df, inference = paste(words, collapse = ", "),
                 draws = if (asked$inference == "bootstrap") draws[, at, drop = FALSE])
  }, effects, place)
  list(effects = effects, vcov = vcov)
}

# terms: per block the names of its terms. Rows: replicates; columns: all terms, NA where a replicate failed.
run_replicates <- function(x, blocks, asked, plan, terms) {
  draws <- run_draws(plan$title, plan$size, length(unlist(terms)), replicate_runner(x, blocks, asked, plan, terms))
  colnames(draws) <- unlist(terms)
  draws
}

# A function of the replicate's number that gives the estimates, all NA when the design can't be made.
replicate_runner <- function(x, blocks, asked, plan, terms) {
  fast <- quick_runner(x, blocks, asked, plan, terms)
  if (!is.null(fast)) return(fast)
  blocks <- lapply(blocks, function(block) {
    c(block[setdiff(names(block), "x")], list(rows = study_of(block$x)$rows))  # workers get the design once
  })
  function(k) {
    tryCatch(suppressWarnings({
      drawn <- replicate_design(x, plan, k, asked)
      unlist(Map(function(block, design, terms) {
        block$x <- design
        if (!is.null(drawn$index)) {
          index <- match(study_of(design)$rows, block$rows)
          block$y <- block$y[index]
          block$inside <- block$inside[index]
          block$event <- block$event[index]
        }
        unname(block_estimate(block, asked, terms)[terms])
      }, blocks, rep(drawn$designs, each = length(blocks) / length(drawn$designs)), terms))
    }), twin_error = function(e) rep(NA_real_, length(unlist(terms))))
  }
}

# The design run anew on replicate k: list(designs, index), see redrawn_on().
replicate_design <- function(x, plan, k, asked = NULL) {
  drawn <- redrawn_on(x, plan$weights(k), if (!is.null(plan$counts)) plan$counts(k), plan$factor)
  list(designs = designs_in(drawn$made, asked), index = drawn$index)
}

# A logit on all units behind inverse weights or the augmented estimator: each draw's score is found from the first
# fit's, and the estimate from sums. Nothing else is asked for often enough, on data large enough, to have a way of its
# own.
quick_runner <- function(x, blocks, asked, plan, terms) {
  if (!is_plainly_drawn(x, blocks, asked)) return(NULL)
  study <- study_of(x)
  known <- list(x = score_matrix(x$score, study), z = as.double(study$z), estimand = study$estimand,
                y = vapply(blocks, `[[`, numeric(length(study$z)), "y"),
                fit = lapply(x$score[c("coefficients", "fitted", "covariance")], unname))
  means_of <- estimators[[asked$estimator]]$redraw(x, blocks, asked, known)
  if (is.null(means_of)) return(NULL)
  force(plan)
  function(k) {
    means <- means_of(plan$weights(k))
    if (is.null(means)) return(rep(NA_real_, length(unlist(terms))))
    unlist(lapply(seq_along(blocks), function(b) {
      unname(core_contrast_values(means[1L, b], means[2L, b], terms[[b]])[1L, ])
    }))
  }
}

# Normalised means of everybody who has a score.
is_plainly_drawn <- function(x, blocks, asked) {
  if (is_arms(x) || is.null(estimators[[asked$estimator]]$redraw)) return(FALSE)
  if (!has_plain_logit(x$score) || !asked$normalise || !is.null(asked$quantiles) || !is.null(asked$by)) return(FALSE)
  if (is_truncated(x) || !is.null(design_responses(x)) || !all(design_kept(x))) return(FALSE)
  !any(vapply(blocks, function(block) anyNA(block$y), NA))
}

# Functions of a draw's weights that give its means, treated above control, a column per outcome; NULL where the design
# or the model is of another kind. known: see quick_runner().
redraw_difference <- function(x, blocks, asked, known) {
  redraw <- weighing_of(x)$redraw
  if (!is.null(redraw)) function(s) redraw(known$x, known$z, known$y, s, known$estimand, known$fit)
}

# Linear models of the same columns for all outcomes.
redraw_augmented <- function(x, blocks, asked, known) {
  by_score <- design_kind(x) == "raw" || !is.null(weighing_of(x)$redraw)
  linear <- vapply(blocks, function(block) identical(outcome_family(asked, block), "gaussian"), NA)
  if (!by_score || !all(linear) || !is.null(asked$products) || is.list(asked$model)) return(NULL)
  study <- study_of(x)
  columns <- cbind(terms_matrix(study, model_terms(study, asked$model, NULL)), known$y)
  arms <- lapply(1:0, function(arm) {
    rows <- which(known$z == arm)
    list(rows = rows, columns = columns[rows, , drop = FALSE])
  })
  function(s) core_redraw_augmented(known, columns, arms, s)
}

has_plain_logit <- function(score) {
  identical(score$settings$source, "regression") && score$link == "logit" && length(score$aliased) == 0L
}

# Is it a normalised difference of means, for everybody?
is_plain_difference <- function(asked) {
  estimators[[asked$estimator]]$plain && asked$normalise && is.null(asked$quantiles) && is.null(asked$by)
}

# What is drawn: units or clusters, within survey strata. list(unit = per study row the code of what it belongs to, of
# units 1..G sorted by stratum, itself: is that 1..n?, sizes of the strata, name).
drawn_units <- function(x, asked) {
  study <- study_of(x)
  n <- length(study$z)
  own <- if (length(asked$clusters$codes) > 0L) asked$clusters$codes[[1L]] else seq_len(n)
  stratum <- if (is.null(study$stratum)) rep(1L, n) else as.integer(study$stratum)
  code <- core_group_codes(stratum, own)  # a cluster across strata is drawn apart in each, as the analytic sums are
  first <- which(!duplicated(code))
  first <- first[order(stratum[first])]
  unit <- match(code, code[first])
  list(unit = unit, stratum = stratum[first], sizes = as.integer(table(stratum[first])),
       itself = identical(unit, seq_len(n)), clustered = length(asked$clusters$codes) > 0L, name = asked$clusters$name)
}

drawn_words <- function(units, study) {
  paste0(if (units$clustered) sprintf("clusters of %s (%d)", units$name, length(units$stratum)) else "units",
         if (!is.null(study$stratum)) sprintf(" within %s", study$roles$stratum))
}

check_drawn <- function(units, study, lonely, call) {
  if (units$clustered) check_cluster_count(units$unit, units$name, call)
  alone <- which(units$sizes < 2L)
  if (is.null(study$stratum) || length(alone) == 0L) return(invisible(units))
  abort_input(c("A survey stratum must keep at least 2 clusters to draw from.",
                x = "{.val {study$roles$stratum}}: only one is in
                     {.val {attr(study$stratum, 'labels')[sort(unique(units$stratum))[alone]]}}.",
                i = "Merge strata, or use {.code inference = \"analytic\"}."), call = call)
}

bootstrap_plan <- function(x, asked, call) {
  study <- study_of(x)
  units <- drawn_units(x, asked)
  check_drawn(units, study, asked$lonely, call)
  s <- sampling_weight(study)
  strata <- !is.null(study$stratum)
  counts <- function(k) {
    drawn <- core_draw_counts(units$sizes, k, asked$seed, as.integer(strata))
    if (units$itself) drawn else drawn[units$unit]
  }
  factor <- if (strata) stratum_factor(units)[units$unit]
  size <- asked$draws
  weights <- function(k) {
    out <- if (is.null(study$s)) counts(k) else s * counts(k)
    if (strata) out * factor else out
  }
  list(size = size, counts = counts, factor = factor, weights = weights, title = "Bootstrap draws",
       vcov = function(draws, estimate) stats::cov(draws), df = drawn_df(units, strata),
       text = sprintf("bootstrap, %s draws of %s%s (seed %s), %s intervals", count_text(size),
                      drawn_words(units, study), if (strata) ", one fewer than each has" else "", format(asked$seed),
                      asked$interval))
}

# Of a survey stratum of k clusters k - 1 are drawn, and stand for all (Rao & Wu 1988): k draws would understate its
# variance by (k - 1) / k.
stratum_factor <- function(units) {
  within <- units$sizes[match(units$stratum, sort(unique(units$stratum)))]
  within / (within - 1)
}

# Clusters less strata; without clusters units are many.
drawn_df <- function(units, strata) {
  if (!units$clustered && !strata) return(Inf)
  core_known_df(length(units$stratum) - length(units$sizes))
}

# Leave one cluster (or unit) out; the others of its survey stratum stand for it.
jackknife_plan <- function(x, effects, asked, call) {
  study <- study_of(x)
  units <- drawn_units(x, asked)
  check_drawn(units, study, asked$lonely, call)
  size <- length(units$stratum)
  text <- paste("jackknife, leaving out one at a time of the",
                sub("^units", paste(count_text(size), "units"), drawn_words(units, study)))
  if (has_closed_jackknife(x, effects, asked)) {
    draws <- do.call(cbind, lapply(effects, left_out_terms))
    size <- nrow(draws)
    return(list(size = size, draws = draws, df = Inf, text = paste(text, "(closed form)"),
                vcov = function(draws, estimate) core_jackknife_vcov(draws, rep(1L, size), size)))
  }
  if (!units$clustered && size > 5000L) {
    abort_unsupported(c("A jackknife of {count_text(size)} units would run the design as often.",
                        i = "Use {.code inference = \"bootstrap\"} or \"analytic\", or name a {.arg cluster}."),
                      call = call)
  }
  within <- units$sizes[match(units$stratum, sort(unique(units$stratum)))]
  factor <- stratum_factor(units)
  strata <- !is.null(study$stratum)
  s <- sampling_weight(study)
  weights <- function(k) {
    left <- units$unit != k
    if (!strata) return(s * left)  # a common factor changes nothing
    same <- units$stratum[units$unit] == units$stratum[k]
    s * left * ifelse(same, factor[k], 1)
  }
  list(size = size, weights = weights, counts = if (!strata) function(k) as.integer(units$unit != k),
       title = "Jackknife",
       vcov = function(draws, estimate) core_jackknife_vcov(draws, units$stratum, within),
       df = drawn_df(units, strata), text = text)
}

# Weighted means with weights that are not estimated, of one outcome: what is left when one unit goes is known.
has_closed_jackknife <- function(x, effects, asked) {
  if (length(effects) > 1L || !is_plain_difference(asked) || !has_known_weights(x)) return(FALSE)
  length(asked$clusters$codes) == 0L && is.null(study_of(x)$stratum)
}

has_known_weights <- function(x) {
  if (is_arms(x) || trims(x)) return(FALSE)
  design_kind(x) == "raw" || (has_weights(x) && !weighing_of(x)$estimated)
}

left_out_terms <- function(effect) {
  values <- effect$measured
  means <- core_leave_one_out(values$y, values$z, values$v)
  core_contrast_values(means[, 1L], means[, 2L], names(effect$estimate))
}

# Columns of replicate weights, each in place of the sampling weight.
replicate_plan <- function(x, asked) {
  study <- study_of(x)
  names <- replicate_columns(asked$replicates, study)
  scale <- if (is.null(asked$replicate_scale)) 1 / length(names) else asked$replicate_scale
  list(size = length(names), weights = function(k) as.double(study$data[[names[k]]][study$rows]),
       title = "Replicate weights",
       vcov = function(draws, estimate) scale * crossprod(sweep(draws, 2L, estimate)), df = length(names) - 1,
       text = sprintf("%d replicate weights, scale %s", length(names), format(scale, digits = 4)))
}

replicate_columns <- function(replicates, study) {
  if (length(replicates) != 1L || !endsWith(replicates, "*")) return(replicates)
  stem <- substr(replicates, 1L, nchar(replicates) - 1L)
  names(study$data)[startsWith(names(study$data), stem)]
}

check_replicates <- function(asked, study, call) {
  if (!is.character(asked$replicates) || anyNA(asked$replicates)) {
    abort_input(c("{.code inference = \"replicates\"} needs {.arg replicates}, the columns of replicate weights.",
                  i = "For example {.code replicates = \"rep_*\"} for all columns that start so."), call = call)
  }
  names <- replicate_columns(asked$replicates, study)
  check_columns(names, study$data, "replicates", call)
  if (length(names) < 2L) {
    abort_input("There must be at least 2 columns of replicate weights; {.val {asked$replicates}} names
                 {length(names)}.", call = call)
  }
  for (name in names) {
    check_weight(study$data[[name]][study$rows], name, study$z, study$levels, study$rows, call)
  }
}
