# The regression that probes of an omitted variable lean on, of a table in a database.

# One pass for the cross-products, one for the robust variance: what core_treatment_fit() finds, with names (of the
# columns), terms, inflation, clusters_df and by. before: in the sample before the design, with the first of these
# alone.
remote_treatment_fit <- function(x, before, call) {
  block <- x$source$block
  study <- study_of(x)
  rows <- study$rows
  v <- if (before) remote_block(study, block[c("outcome", "inside")], x$source$asked)$s else block$v
  terms <- model_terms(study, outcome_formula(x$source$asked, block), call)
  matrix <- remote_matrix(terms$columns, terms$formula)
  columns <- remote_standardised(study, matrix)
  y <- say_word(rows, "y", call("-", block$y, block$centre))
  z <- bquote((u_z - .(study$size[["treated"]] / sum(study$size))))
  words <- c(list(say_word(rows, "c", z)), columns$words, list(y))
  products <- products_with(v, words)
  sums <- row_sums(rows, unname(c(products, list(kept_call(v)))))
  q <- length(words) + 1L
  second <- symmetric_of(sums[seq_along(products)], q) / sums[1L]
  mean <- second[-1L, 1L]
  n <- sums[length(sums)]
  gram <- n * (second[-1L, -1L] - tcrossprod(mean))
  length_of <- sqrt(pmax(diag(gram), 1e-300))
  length_of[c(1L, q - 1L)] <- 1
  gram <- gram / outer(length_of, length_of)
  fit <- core_treatment_fit(gram, n)
  if (before || !is.finite(fit$se)) return(fit)
  influence <- regression_influence(rows, v, words, mean, length_of, fit, n / sums[1L])
  keys <- remote_keys(study)["cluster"[!is.null(study$cluster)]]
  robust <- core_vcov_of(influence_sums(rows, list(f = influence), keys, kept_call(v)))
  fit$inflation <- sqrt(robust$vcov[1L]) / fit$se
  fit$clusters_df <- if (length(keys) > 0L) robust$clusters - 1 else Inf
  fit$names <- matrix$names
  fit$terms <- terms
  fit$by <- if (length(keys) > 0L) "clustered" else "robust"
  fit
}

# A row's contribution to the coefficient of the treatment: what covariates leave of it times what the regression leaves
# of the outcome. scale: of weights that sum to the number of units.
regression_influence <- function(rows, v, words, mean, length_of, fit, scale) {
  own <- fit$kept + 1L
  inside <- seq_along(own) + 1L
  slopes <- solve_gram(fit$gram[inside, inside, drop = FALSE], fit$gram[inside, c(1L, nrow(fit$gram)), drop = FALSE])
  left <- function(word, k, slope) {
    d <- -slope / length_of[own]
    line <- line_of(words[own], d, -mean[k] - sum(d * mean[own]))
    say_word(rows, "r", call("+", word, line))
  }
  last <- length(words)
  of_z <- left(words[[1L]], 1L, slopes[, 1L])
  of_y <- left(words[[last]], last, slopes[, 2L])
  say_word(rows, "f", bquote(.(v) * .(scale / fit$spread) * .(of_z) * (.(of_y) - .(fit$estimate) * .(of_z))))
}

# As bounded_arms(), from spreads of the outcome (of what the models leave of it) whose bins stand for their units.
remote_bounded_arms <- function(block, asked, call = rlang::caller_env()) {
  x <- block$x
  rows <- study_of(x)$rows
  s <- block$s
  weight <- remote_moving_weight(x, block, s, call)
  augmented <- estimators[[asked$estimator]]$models
  models <- if (augmented) remote_models(rows, block, outcome_sums(rows, block, kept_call(s)), s, asked, call)$fits
  target <- if (augmented) remote_target(rows, block)$t
  means <- if (augmented) row_sums(rows, c(list(t = target), lapply(models, function(fit) call("*", target, fit$mean))))
  lapply(stats::setNames(nm = names(arm_words)), function(name) {
    arm <- arm_words[[name]]
    fit <- if (augmented) models[[paste0("mean_", name)]]
    y <- if (augmented) say_word(rows, "y", call("-", block$y, fit$mean)) else block$y
    part <- function(own) if (!identical(own, 0)) call("*", multiplied(s, own), arm)
    sums <- Filter(Negate(is.null), list(fixed = part(weight$fixed[[name]]), free = part(weight$odds[[name]])))
    spread <- row_spread(rows, y, sums)
    of <- function(what) if (what %in% names(sums)) spread[[what]] else numeric(nrow(spread))
    list(added = if (augmented) means[[paste0("mean_", name)]] / means[["t"]] else 0,
         table = core_bound_table((spread$least + spread$most) / 2, of("fixed"), of("free")))
  })
}

# By arm, calls of the parts of a weight that stay and that move, see moving_weight(); 0 for none.
remote_moving_weight <- function(x, block, s, call) {
  estimand <- study_of(x)$estimand
  by_score <- !has_weights(x) || weighing_of(x)$odds == "score"
  e <- if (by_score) x$score$fitted
  odds <- list(treated = bquote(((1 - .(e)) / .(e))), control = bquote((.(e) / (1 - .(e)))))
  own <- if (is.null(x$weight_word)) 1 else x$weight_word
  if (population_of(estimand) == "everybody") {
    if (!by_score) odds <- remote_probability_odds(x, s, own, call)
    return(list(fixed = list(treated = 1, control = 1), odds = odds))
  }
  seeks <- population_of(estimand)
  moves <- setdiff(names(arm_words), seeks)
  nothing <- list(treated = 0, control = 0)
  list(fixed = utils::modifyList(nothing, stats::setNames(list(own), seeks)),
       odds = utils::modifyList(nothing, stats::setNames(list(if (by_score) odds[[moves]] else own), moves)))
}

# The weights of strata and cells less 1, see probability_weights().
remote_probability_odds <- function(x, s, own, call) {
  rows <- study_of(x)$rows
  sums <- row_sums(rows, c(list(all = s), lapply(arm_words, function(arm) bquote(.(s) * .(own) * .(arm)))))
  factor <- sums[["all"]] / sums[names(arm_words)]
  scaled <- bquote(.(own) * ifelse(u_z == 1, .(factor[["treated"]]), .(factor[["control"]])))
  least <- row_ends_inside(rows, list(scaled), s)$least
  if (least < 1 - 1e-8) stop_no_probabilities(least, call)
  odds <- bquote(pmax(.(scaled) - 1, 0))
  list(treated = odds, control = odds)
}
