# Effects on a table in a database: the estimators of effect-estimators.R and core-effect.R in words, one pass for each
# kind of sum. Methods, "Effects".

measure_remote <- function(x, asked, given, call) {
  study <- study_of(x)
  check_remote_effect(x, asked, given, call)
  groups <- if (is.null(asked$by)) list(NULL) else remote_by(study, asked$by, call)
  blocks <- unlist(lapply(asked$outcome, function(outcome) {
    lapply(seq_along(groups), function(g) list(outcome = outcome, inside = groups[[g]], group = names(groups)[g]))
  }), recursive = FALSE)
  check_looks(blocks, asked, call)
  effects <- once_each(lapply(blocks, function(block) {
    log_opening(study, block$outcome, "measure_effect")
    with_cautions(measure_remote_block(x, block, asked, call), design_cautions(x))
  }))
  log_effects(effects, asked)
  if (length(effects) == 1L && is.null(asked$by)) effects[[1L]] else new_effects(effects, asked)
}

# The groups of a covariate with levels, as study_groups() has them: named calls, 1 for units of a group.
remote_by <- function(study, by, call) {
  check_string(by, arg = "by", call = call)
  column <- study$columns[[by]]
  if (is.null(column) || !column$kind %in% c("factor", "binary")) {
    abort_input(c(
      "{.arg by} must name a covariate with a few levels.",
      x = if (is.null(column)) "{.val {by}} is not among the study's covariates." else "{.val {by}} is {column$kind}.",
      i = if (is.null(column)) "Groups of a table in a database are those of covariates: name it in {.fn frame_study}."
          else "Cut it into groups in a view first."), column = by, call = call)
  }
  words <- if (column$kind == "factor") lapply(seq_along(column$levels), function(k) level_word(column, k)) else
    list(bquote(ifelse(.(column$word) == 1, 0, 1)), bquote(ifelse(.(column$word) == 1, 1, 0)))
  names(words) <- if (column$kind == "factor") column$levels else if (column$levels == "TRUE") c("FALSE", "TRUE") else
    c("0", "1")
  counts <- row_sums(study$rows, unlist(lapply(unname(words), function(word) {
    lapply(unname(arm_words), function(arm) call("*", word, arm))
  })))
  leave_thin_groups(words, apply(matrix(counts, 2L), 2L, min) < 2, by, call)
}

check_remote_effect <- function(x, asked, given, call) {
  can <- c("x", "outcome", "estimator", "model", "family", "by", "adjust", "bands", "lonely_stratum", "level", "seed")
  stray <- setdiff(given, can)
  plain <- list(inference = "analytic", error = "robust", normalise = TRUE, estimand = study_of(x)$estimand)
  stray <- stray[!vapply(stray, function(name) identical(asked[[name]], plain[[name]]), NA)]
  refuse_row_options(stray, call)
  if (is.null(estimators[[asked$estimator]]$remote)) {
    able <- names(Filter(function(entry) !is.null(entry$remote), estimators))
    abort_unsupported(c("The {asked$estimator} estimator needs rows in memory.", i = "Use {.or {.val {able}}}."),
                      call = call)
  }
  able <- names(Filter(function(entry) entry$remote, outcome_families))
  families <- setdiff(asked$family, able)
  if (length(families) > 0L) {
    abort_unsupported(c("{.code family = \"{families[1L]}\"} needs rows in memory.", i = "Use {.or {.val {able}}}."),
                      call = call)
  }
}

# What an estimator reads: y, known (1, 0, or NULL when all are), s: the sampling weight of units in use, v: theirs
# after the design, nuisance of v, arms: 1 for units of an arm; words or calls.
remote_block <- function(x, group, asked) {
  study <- study_of(x)
  outcome <- group$outcome
  rows <- study$rows
  facts <- study$outcomes[[outcome]]
  event <- study$events[[outcome]]
  s <- remote_kept_weight(x)
  if (!is.null(group$inside)) s <- say_word(rows, "s", call("*", s, group$inside))
  if (!is.null(facts$known)) s <- say_word(rows, "s", call("*", s, facts$known))
  by_score <- design_kind(x) == "raw" && estimators[[asked$estimator]]$by_score
  inverse <- if (by_score) remote_inverse(rows, x$score, study$estimand)
  weight <- if (by_score) inverse$weight else x$weight_word
  nuisance <- if (by_score) inverse$nuisance else if (is.null(weight)) no_nuisance() else x$nuisance
  list(
    x = x, outcome = outcome, inside = group$inside, group = group$group, shares = !is.na(event), y = facts$value,
    known = facts$known, s = s,
    v = if (is.null(weight)) s else say_word(rows, "v", call("*", s, weight)), made = by_score,
    nuisance = scaled_nuisance(nuisance, s), arms = stats::setNames(arm_words, names(both_arms)),
    contrasts = if (!is.na(event)) c("difference", "ratio", "odds_ratio") else
      if (outcome %in% study$logged) c("difference", "percent") else c("difference", if (facts$least >= 0) "ratio"),
    centre = rows$check[[as.character(facts$value)]] / rows$count, missing = 0L, facts = facts
  )
}

measure_remote_block <- function(x, group, asked, call) {
  study <- study_of(x)
  rows <- study$rows
  block <- remote_block(x, group, asked)
  used <- bquote(ifelse(.(block$s) > 0, 1, 0))
  found <- outcome_sums(rows, block, used)
  check_remote_arms(found, study, block, call)
  block$missing <- attr(found, "missing")
  made <- estimators[[asked$estimator]]$remote(rows, block, found, asked, call)
  plain <- estimators[[asked$estimator]]$plain
  within <- if (design_kind(x) == "strata" && plain && is.null(block$inside)) remote_stratum_differences(rows, block)
  words <- influence_words(rows, c(made$terms, within$terms))
  keys <- remote_keys(study)
  sums <- influence_sums(rows, words, keys, used, checked_words(rows))
  check_unchanged(rows, sums$check)
  inference <- remote_inference(x, sums, keys, asked, call, group_phrase(block))
  result <- core_contrasts(list(estimate = made$estimate), block$contrasts)
  if (!is.null(within)) result <- with_own_words(result, within$estimate)
  if (design_kind(x) %in% c("cells", "strata") && plain) {
    inference$vcov[1:2, 1:2] <- inference$vcov[1:2, 1:2] + remote_shortfalls(rows, block)
  }
  inference$vcov <- contrast_vcov(inference$vcov, result)
  inference$given <- taken_as_given(x, asked)
  new_remote_effect(block, result, inference, found, words, asked)
}

# Contrasts of the two means, and estimates that have words of influence of their own behind those of the means.
with_own_words <- function(result, estimate) {
  k <- length(estimate)
  list(estimate = c(result$estimate, estimate),
       slopes = cbind(rbind(result$slopes, matrix(0, k, ncol(result$slopes))),
                      `colnames<-`(rbind(matrix(0, 2L, k), diag(k)), names(estimate))))
}

# Sums by arm of units in use: their number, s, s^2, and of y from its centre; and v, v^2, v y.
outcome_sums <- function(rows, block, used) {
  y <- say_word(rows, "y", call("-", block$y, block$centre))
  exprs <- unlist(lapply(names(block$arms), function(name) {
    arm <- block$arms[[name]]
    s <- call("*", block$s, arm)
    v <- call("*", block$v, arm)
    parts <- list(count = call("*", used, arm), s = s, s2 = call("*", s, s), first = call("*", s, y),
                  second = call("*", call("*", s, y), y), v = v, v2 = call("*", v, v), vy = call("*", v, y))
    stats::setNames(parts, paste(name, names(parts)))
  }))
  kept <- if (inherits(block$x, "twin_design")) block$x$kept_word
  gone <- if (!is.null(block$known)) {
    list(missing = multiplied(multiplied(bquote((1 - .(block$known))), if (is.null(kept)) 1 else kept),
                              if (is.null(block$inside)) 1 else block$inside))
  }
  sums <- row_sums(rows, c(exprs, gone))
  of <- function(name, part) unname(sums[[paste(name, part)]])
  arms <- lapply(stats::setNames(nm = names(block$arms)), function(name) {
    parts <- vapply(stats::setNames(nm = c("count", "s", "s2", "first", "second", "v", "v2", "vy")),
                    function(part) of(name, part), 0)
    mean <- parts[["first"]] / parts[["s"]]
    c(parts, mean = block$centre + mean,
      variance = max(0, core_variance_of(parts[["s"]], parts[["s2"]], parts[["first"]], parts[["second"]])))
  })
  structure(arms, missing = if (is.null(gone)) 0L else as.integer(sums[["missing"]]))
}

check_remote_arms <- function(found, study, block, call) {
  count <- vapply(found, `[[`, 0, "count")
  names(count) <- c("treated", "control")
  small <- names(count)[count < 2]
  if (length(small) > 0L) {
    abort_input(c("Each arm must keep at least 2 units with a known outcome.",
                  x = "The {small[1L]} arm ({.val {study$levels[[small[1L]]]}}) has {count_text(count[[small[1L]]])} for
                       {.val {block$outcome}}{group_phrase(block)}."), call = call)
  }
}

remote_difference <- function(rows, block, found) {
  estimate <- vapply(found, function(arm) block$centre + arm[["vy"]] / arm[["v"]], 0)
  terms <- lapply(stats::setNames(nm = names(block$arms)), function(name) {
    away <- say_word(rows, "a", bquote((.(block$y) - .(estimate[[name]])) * .(block$arms[[name]]) /
                                         .(found[[name]][["v"]])))
    list(own = call("*", block$v, away), carries = carries_of(list(list(v = away, nuisance = block$nuisance))))
  })
  list(estimate = estimate, terms = terms)
}

# One for each nuisance; those of quantities that are known are left out.
carries_of <- function(carries) {
  all <- unlist(lapply(carries, function(carry) {
    if (is.null(carry$nuisance$parts)) list(carry) else
      carries_of(lapply(carry$nuisance$parts, function(part) list(v = carry$v, nuisance = part)))
  }), recursive = FALSE)
  Filter(function(carry) length(carry$nuisance$moments) > 0L || !is.null(carry$nuisance$gradient), all)
}

# Whom the models average over: list(t, nuisance).
remote_target <- function(rows, block) {
  x <- block$x
  estimand <- study_of(x)$estimand
  population <- population_of(estimand)
  if (population != "score") {
    own <- switch(population, everybody = 1, treated = arm_words$treated, control = arm_words$control)
    return(list(t = if (identical(own, 1)) block$s else say_word(rows, "t", call("*", block$s, own)),
                nuisance = no_nuisance()))
  }
  e <- x$score$fitted
  said <- tilt_words(estimand, e)
  slope <- say_word(rows, "d", bquote(.(block$s) * (.(said$slope)) * .(x$score$slope)))
  list(t = say_word(rows, "t", call("*", block$s, said$tilt)), nuisance = scaled_nuisance(x$score$nuisance, slope))
}

# A model of the outcome for each arm, fitted with `weight`: fits, and the columns they share.
remote_models <- function(rows, block, found, weight, asked, call) {
  study <- study_of(block$x)
  family <- outcome_family(asked, block)
  check_remote_family(family, block, call)
  terms <- model_terms(study, outcome_formula(asked, block), call)
  check_remote_formula(terms$formula, study$data, call)
  matrix <- remote_matrix(terms$columns, terms$formula)
  if (!is.null(block$inside)) matrix <- words_that_vary(rows, matrix, block$s)
  columns <- remote_standardised(study, matrix)
  fits <- Map(function(arm, name) {
    told <- arm_name(if (name == "mean_treated") 1L else 0L, study)
    own <- found[[name]]
    if (own[["variance"]] == 0) check_arm_outcome(rep(own[["mean"]], own[["count"]]), family, told, call)
    start <- switch(family, gaussian = 0, binomial = stats::qlogis(own[["mean"]]), poisson = log(own[["mean"]]))
    own_weight <- say_word(rows, "q", call("*", weight, arm))
    fit <- fit_remote(rows, columns, block$y, own_weight, core_family_link(family), start)
    check_outcome_fit(fit, told, call)
    if (length(fit$aliased) > 0L) warn_outcome_aliased(columns$names[fit$aliased], told)
    c(fit, list(nuisance = fit_nuisance(fit, columns)))
  }, block$arms, names(block$arms))
  list(fits = fits, columns = columns)
}

# As columns_that_vary(), of rows whose weight s is positive.
words_that_vary <- function(rows, matrix, s) {
  ends <- row_ends_inside(rows, matrix$words, s)
  lapply(matrix, `[`, ends$least < ends$most)
}

check_remote_family <- function(family, block, call) {
  fits <- switch(family, binomial = block$shares, poisson = block$facts$least >= 0, gaussian = TRUE)
  if (fits) return(invisible(family))
  needs <- c(binomial = "an outcome of 0 and 1", poisson = "values of 0 or more")[[family]]
  abort_input(c("{.code family = \"{family}\"} needs {needs}.",
                x = "The values of {.val {block$outcome}} go from {number_text(block$facts$least)} to
                     {number_text(block$facts$most)}.", i = "Use {.code family = \"gaussian\"}."),
              column = block$outcome, call = call)
}

remote_regression <- function(rows, block, found, asked, call) {
  target <- remote_target(rows, block)
  models <- remote_models(rows, block, found, block$v, asked, call)
  sums <- row_sums(rows, c(list(target = target$t), lapply(models$fits, function(fit) call("*", target$t, fit$mean))))
  total <- sums[["target"]]
  estimate <- sums[names(block$arms)] / total
  terms <- Map(function(fit, name, arm) {
    away <- say_word(rows, "a", bquote((.(fit$mean) - .(estimate[[name]])) / .(total)))
    by_model <- bquote(.(target$t) / .(total) * .(fit$slope))
    list(fit = fit, away = away, by_model = by_model, arm = arm)
  }, models$fits, names(models$fits), block$arms)
  # a unit's weight moves the coefficients by its share of the estimating equation
  d <- carried_directions(rows, lapply(terms, function(term) list(v = term$by_model, fit = term$fit)), models$columns)
  terms <- Map(function(term, along) {
    by_weight <- say_word(rows, "b", bquote((.(block$y) - .(term$fit$mean)) * .(term$arm) * (.(along))))
    list(own = bquote(.(target$t) * .(term$away) + .(block$v) * .(by_weight)),
         carries = carries_of(list(list(v = term$away, nuisance = target$nuisance),
                                   list(v = by_weight, nuisance = block$nuisance))))
  }, terms, d)
  list(estimate = estimate, terms = terms)
}

# For each model the call x'd by which a row's residual moves the estimate; one pass.
carried_directions <- function(rows, parts, columns) {
  q <- length(columns$words) + 1L
  exprs <- unlist(lapply(parts, function(part) {
    lapply(c(list(1), columns$words), function(word) multiplied(part$v, word))
  }))
  sums <- matrix(row_sums(rows, unname(exprs)), q)
  lapply(stats::setNames(seq_along(parts), names(parts)), function(k) {
    d <- drop(parts[[k]]$fit$covariance %*% sums[, k])
    line_of(columns$words, d[-1L], d[1L])
  })
}

remote_augmented <- function(rows, block, found, asked, call) {
  target <- remote_target(rows, block)
  models <- remote_models(rows, block, found, block$s, asked, call)
  fitted <- lapply(models$fits, function(fit) call("*", target$t, fit$mean))
  left <- Map(function(fit, arm) bquote(.(block$v) * .(arm) * (.(block$y) - .(fit$mean))), models$fits, block$arms)
  names(fitted) <- paste("fitted", names(block$arms))
  names(left) <- paste("left", names(block$arms))
  sums <- row_sums(rows, c(list(target = target$t), fitted, left))
  total <- sums[["target"]]
  predicted <- sums[paste("fitted", names(block$arms))] / total
  whole <- vapply(found, `[[`, 0, "v")
  remainder <- sums[paste("left", names(block$arms))] / whole
  terms <- lapply(stats::setNames(seq_along(block$arms), names(block$arms)), function(k) {
    fit <- models$fits[[k]]
    arm <- block$arms[[k]]
    away_target <- say_word(rows, "a", bquote((.(fit$mean) - .(predicted[[k]])) / .(total)))
    away_left <- say_word(rows, "a", bquote((.(block$y) - .(fit$mean) - .(remainder[[k]])) * .(arm) / .(whole[[k]])))
    by_model <- bquote((.(target$t) / .(total) - .(block$v) * .(arm) / .(whole[[k]])) * .(fit$slope))
    list(own = bquote(.(target$t) * .(away_target) + .(block$v) * .(away_left)),
         carries = carries_of(list(list(v = away_target, nuisance = target$nuisance),
                                   list(v = away_left, nuisance = block$nuisance),
                                   list(v = by_model, nuisance = fit$nuisance))))
  })
  list(estimate = stats::setNames(predicted + remainder, names(block$arms)), terms = terms)
}

# list(vcov of the two means, df, text), as effect_vcov() gives them.
remote_inference <- function(x, sums, keys, asked, call, where) {
  study <- study_of(x)
  out <- core_vcov_of(sums, asked$lonely)
  scored <- if (design_kind(x) == "strata" && has_likelihood_score(x)) "with the estimated score accounted for"
  if (length(keys) == 0L) return(list(vcov = out$vcov, df = Inf, text = paste(c("robust", scored), collapse = ", ")))
  name <- study$roles$cluster
  if (!is.null(name)) check_cluster_count(seq_len(out$clusters), name, call, where)
  if (!is.null(out$lonely)) stop_lonely(out$lonely, study, is.null(name), call)
  strata <- length(unique(sums$stratum[sums$counts > 0]))
  text <- c(if (is.null(name)) "robust" else sprintf("clustered by %s (%d)", name, out$clusters),
            if (!is.null(keys$stratum)) sprintf("within %s", study$roles$stratum), scored)
  list(vcov = out$vcov, df = core_known_df(out$clusters - strata), text = paste(text, collapse = ", "))
}

# An effect whose influence stays where the rows are: remote holds its words and the slopes of its terms.
new_remote_effect <- function(block, result, inference, found, words, asked) {
  x <- block$x
  study <- study_of(x)
  of <- function(part) stats::setNames(vapply(found, `[[`, 0, part), c("treated", "control"))
  count <- of("count")
  mean <- sum(of("s") * of("mean")) / sum(of("s"))
  spread <- sqrt(sum(of("count") * (of("variance") + (of("mean") - mean)^2)) / max(1, sum(count) - 1))
  inference <- with_honest_errors(inference, result$estimate, spread, where = group_phrase(block))
  worst <- if (block$made || block$missing > 0 || !is.null(block$inside)) {
    after <- sample_moments(study, list(after = block$v), balance_parts(study))
    worst_row(c(design_moments(study)["before"], after), study$estimand)
  } else {
    worst_imbalance(x)
  }
  note <- c(if (inherits(x, "twin_design")) x$note, if (block$missing > 0) {
    if (!is.null(block$inside)) "units whose outcome is known" else
      sprintf("the %s of %s units whose outcome is known", count_text(sum(count)),
              count_text(sum(count) + block$missing))
  })
  structure(list(
    outcome = block$outcome, estimator = asked$estimator, level = asked$level, shares = block$shares,
    contrast = NULL, group = block$group, by = asked$by, family = used_family(block, asked), interval = asked$interval,
    normalised = asked$normalise, study = study, kind = design_kind(x), reuse = FALSE, design = design_label(x),
    note = as.character(note), estimand = study$estimand, estimate = result$estimate, influence = NULL, rows = NULL,
    used = NULL, vcov = inference$vcov, df = inference$df,
    inference = paste(c(inference$text, inference$given), collapse = ", "), given = inference$given,
    counts = c(count, missing = block$missing),
    sizes = of("v")^2 / of("v2"), worst_smd = unname(worst), worst_row = names(worst),
    outcome_sd = sqrt(mean(of("variance"))), pairs = NULL, sets = NULL, by_unit = FALSE, clusters = NULL,
    measured = NULL,
    source = list(block = block, asked = asked), draws = NULL, responding = FALSE, cautions = design_cautions(x),
    remote = list(words = words, slopes = result$slopes)
  ), class = c("twin_remote_effect", "twin_effect"))
}

# Correlations of the terms of several effects from one pass over the table they share.
remote_joint_vcov <- function(effects, terms) {
  check_same_rows(lapply(effects, `[[`, "study"))
  study <- effects[[1L]]$study
  words <- unlist(lapply(effects, function(effect) unname(effect$remote$words)))
  names(words) <- paste0("f", seq_along(words))
  keys <- if (!is.null(study$cluster)) list(cluster = "u_g") else list()
  means <- core_vcov_of(influence_sums(study$rows, words, keys, 1))$vcov
  slopes <- matrix(0, length(words), sum(lengths(terms)))
  row <- column <- 0L
  for (k in seq_along(effects)) {
    own <- effects[[k]]$remote$slopes[, terms[[k]], drop = FALSE]
    slopes[row + seq_len(nrow(own)), column + seq_len(ncol(own))] <- own
    row <- row + nrow(own)
    column <- column + ncol(own)
  }
  se <- sqrt(unlist(Map(function(effect, terms) diag(effect$vcov)[terms], effects, terms)))
  joint <- correlation_of(list(vcov = crossprod(slopes, means %*% slopes))) * outer(se, se)
  diag(joint) <- se^2
  joint
}
