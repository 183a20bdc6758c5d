# Designs on a table in a database: score and weights are words of its rows (remote-rows.R).

# kept: a word, 1 for units that are in, NULL for all. weight: a word, without the sampling weight, NULL for 1. cells:
# of strata and cells list(set: a word, their number or 0, count, out: units without one, by arm), NULL for others.
# size: units that are in, by arm. Other fields as in new_design().
new_remote_design <- function(parent, step, kind = design_kind(parent), score = design_score(parent),
                              kept = if (inherits(parent, "twin_design")) parent$kept_word, weight = NULL,
                              weighing = NULL, nuisance = NULL, cells = NULL, note = character(),
                              size = parent$size) {
  study <- study_of(parent)
  steps <- c(design_steps(parent), list(step))
  structure(list(
    study = study, steps = steps, kind = kind, score = score, kept_word = kept, weight_word = weight,
    weighing = weighing, nuisance = nuisance, cells = cells, moments = NULL, size = size,
    recipe = design_recipe(parent),
    responses = NULL, metric = NULL, note = c(if (inherits(parent, "twin_design")) parent$note, note),
    cautions = design_cautions(parent), hash = rlang::hash(list(study$hash, steps))
  ), class = c("twin_remote_design", "twin_design"))
}

# The sampling weight of units that are in, and the weight s w after the design: calls.
remote_kept_weight <- function(x) {
  kept <- if (inherits(x, "twin_design")) x$kept_word
  if (is.null(kept)) quote(u_s) else say_word(study_of(x)$rows, "s", call("*", quote(u_s), kept))
}

remote_full_weight <- function(x) {
  weight <- if (inherits(x, "twin_design")) x$weight_word
  s <- remote_kept_weight(x)
  if (is.null(weight)) s else say_word(study_of(x)$rows, "v", call("*", s, weight))
}

# The words of a regression score: its matrix, standardised columns and fit.
remote_score <- function(x, settings, call) {
  asked <- if (settings$source %in% c("regression", "ladder")) settings$link else settings$source
  if (!asked %in% binary_links) {
    abort_unsupported(c("On a table in a database the score is a regression: {.or {.val {binary_links}}}.",
                        x = "Asked for: {.val {asked}}.",
                        i = "Draw a sample with {.fn fetch_units} for anything else."), call = call)
  }
  study <- study_of(x)
  climbed <- if (settings$source == "ladder") ladder_terms(x, settings, call)
  terms <- model_terms(study, if (is.null(climbed)) settings$model else stats::reformulate(climbed$terms), call)
  check_remote_formula(terms$formula, study$data, call)
  moments <- design_moments(study)$before
  lone <- remote_lone(terms$columns, moments)
  warn_lone_table(remote_lone_table(lone, study))
  matrix <- remote_matrix(terms$columns, terms$formula, lone)
  columns <- remote_standardised(study, matrix)
  s <- remote_kept_weight(x)
  share <- columns$products$treated / columns$products$total
  known <- if (is.null(x$kept_word) && asked == "logit") first_logit_sums(columns, share)
  fit <- fit_remote(study$rows, columns, quote(u_z), s, asked, remote_links[[asked]]$start(share), known,
                    function(mean) score_end_sums(mean, s))
  check_remote_fit(fit, columns, call)
  raw <- raw_scale(fit$beta, fit$covariance, columns)
  names <- c("(intercept)", matrix$names)
  dimnames(raw$covariance) <- list(names, names)
  score <- list(
    link = asked, terms = terms$text, formula = terms$formula, columns = names(terms$columns), lone = lone,
    linear = fit$linear, fitted = fit$mean, slope = fit$slope, coefficients = stats::setNames(raw$coefficients, names),
    covariance = raw$covariance, aliased = matrix$names[fit$aliased], iterations = fit$iterations, loglik = fit$loglik,
    known = FALSE, settings = settings, nuisance = fit_nuisance(fit, columns), inside = NULL,
    fitted_to = s
  )
  ends <- if (is.null(fit$ends)) score_ends(study, score, s) else matrix_of_ends(fit$ends)
  score <- c(score, list(ends = ends), climbed[c("steps", "untried")])
  recipe <- settings[settings_of[[settings$source]]]
  step <- list(verb = "score", label = score_label(settings, score), settings = recipe, model = score$terms,
               inside = NULL)
  log_design(new_remote_design(x, step, kind = "raw", score = score), "score", score_counts(score),
             score_log(settings, score))
}

# Least and greatest score of each arm among the units that are in: 2 x 2, treated first.
score_ends <- function(study, score, s) {
  asked <- score_end_sums(score$fitted, s)
  matrix_of_ends(row_aggregates(study$rows, asked$aggregate, asked$exprs))
}

matrix_of_ends <- function(ends) {
  matrix(ends, 2L, dimnames = list(c("treated", "control"), c("low", "high")))
}

score_end_sums <- function(e, s) {
  inside <- function(arm, other) bquote(ifelse(u_z == .(arm) & .(s) > 0, .(e), .(other)))
  list(aggregate = rep(c("MIN", "MAX"), each = 2L),
       exprs = list(inside(1, 2), inside(0, 2), inside(1, -1), inside(0, -1)))
}

check_remote_fit <- function(fit, columns, call) {
  if (fit$status == "separated") {
    weight <- abs(fit$beta[-1L])
    stop_separated(columns$names[weight > 0.05 * max(weight)], call)
  }
  check_converged(fit, columns$names, call)
}

# As lone_levels(), from the shares of the arms.
remote_lone <- function(columns, moments) {
  found <- lapply(stats::setNames(nm = names(columns)), function(name) {
    own <- moments[moments$covariate == name, ]
    lone <- (own$mean_treated > 0) != (own$mean_control > 0)
    codes <- which(lone[own$kind == "level"])
    if (columns[[name]]$kind != "factor" || length(columns[[name]]$levels) - length(codes) < 2L) codes <- integer()
    flag <- any(lone[own$kind == "missing"])
    if (length(codes) > 0L || flag) list(levels = codes, flag = flag)
  })
  Filter(Negate(is.null), found)
}

remote_lone_table <- function(lone, study) {
  if (length(lone) == 0L) return(NULL)
  rows <- Map(function(entry, name) {
    column <- study$columns[[name]]
    words <- c(lapply(entry$levels, function(code) level_word(column, code)), if (entry$flag) list(column$flag))
    exprs <- unlist(lapply(words, function(word) list(bquote(.(word) * u_z), bquote(.(word) * (1 - u_z)))))
    counts <- matrix(row_sums(study$rows, unname(exprs)), 2L)
    data.frame(covariate = name, level = c(column$levels[entry$levels], if (entry$flag) missing_level),
               treated = counts[1L, ], control = counts[2L, ])
  }, lone, names(lone))
  do.call(rbind, unname(rows))
}

# Tilt and slope of an estimand as calls of the score e.
tilt_words <- function(estimand, e) {
  entry <- estimands[[estimand]]
  lapply(entry[c("tilt", "slope")], function(f) {
    body <- body(f)
    if (is.call(body) && identical(body[[1L]], quote(rep))) return(eval(body[[2L]]))
    if (is.call(body) && identical(body[[1L]], quote(numeric))) return(0)
    do.call(substitute, list(body, list(e = e)))
  })
}

# Inverse weights of a score and the nuisance of its estimation: list(weight, nuisance).
remote_inverse <- function(rows, score, estimand) {
  e <- score$fitted
  said <- tilt_words(estimand, e)
  own <- say_word(rows, "o", bquote(ifelse(u_z == 1, .(e), 1 - .(e))))
  weight <- say_word(rows, "w", bquote(.(said$tilt) / .(own)))
  slope <- say_word(rows, "d", bquote((.(said$slope) * .(own) - (2 * u_z - 1) * .(said$tilt)) / (.(own) * .(own)) *
                                        .(score$slope)))
  list(weight = weight, nuisance = scaled_nuisance(score$nuisance, slope))
}

remote_weights <- function(x, asked, call) {
  study <- study_of(x)
  entry <- weighings[[asked$method]]
  if (is.null(entry$remote)) {
    able <- intersect(names(Filter(function(entry) !is.null(entry$remote), weighings)), weighing_methods())
    abort_unsupported(c("{.code method = \"{asked$method}\"} needs rows in memory.",
                        i = "Use {.or {.val {able}}}, or draw a sample with {.fn fetch_units}."), call = call)
  }
  rows <- study$rows
  s <- remote_kept_weight(x)
  made <- entry$remote(x, asked, call)
  weight <- made$weight
  nuisance <- made$nuisance
  if (asked$stabilise) {
    known <- row_sums(rows, list(treated = call("*", s, arm_words$treated), all = s))
    share <- known[["treated"]] / known[["all"]]
    own <- bquote(ifelse(u_z == 1, .(share), .(1 - share)))
    nuisance <- joined_nuisance(scaled_nuisance(nuisance, own),
                                scaled_nuisance(share_nuisance(s, share, known[["all"]]), weight))
    weight <- say_word(rows, "w", call("*", weight, own))
  }
  cut <- remote_truncation(rows, weight, s, asked$truncate)
  if (!is.null(cut)) {
    nuisance <- scaled_nuisance(nuisance, say_word(rows, "b", bquote(ifelse(.(cut$weight) == .(weight), 1, 0))))
    weight <- cut$weight
  }
  if (!is.null(x$kept_word)) {
    weight <- say_word(rows, "w", call("*", weight, x$kept_word))
    nuisance <- scaled_nuisance(nuisance, x$kept_word)
  }
  moved <- if (!is.null(cut)) rowSums(cut$table[c("raised", "lowered")])
  weighing <- list(method = asked$method, stabilise = asked$stabilise, free = sum(moved) == 0, truncation = cut$table)
  step <- c(list(verb = "weigh", label = weigh_label(asked, study$estimand)), asked["method"],
            asked[c(sub("weight", "column", entry$arguments), "truncate")])
  design <- new_remote_design(x, step, kind = "weights", weight = weight, weighing = weighing, nuisance = nuisance,
                              score = if (is.null(made$score)) design_score(x) else made$score)
  design <- amend(design, moments = design_moments(design))
  warn_heavy_remote(design)
  size <- remote_arm_sizes(design)
  log_design(design, "weigh", paste0(
    sprintf("effective %.0f treated, %.0f control", size[["treated"]], size[["control"]]),
    if (!is.null(cut)) sprintf("; truncated %.0f treated, %.0f control", moved[[1L]], moved[[2L]])
  ), c(list(estimand = study$estimand, method = asked$method), if (asked$stabilise) asked["stabilise"],
       asked["truncate"], if (!is.null(cut)) list(truncation = unlist(cut$table[-1L]))))
}

# Weights cut off within each arm: list(weight: a word, table: as truncation_counts() gives it), NULL for none.
# Quantiles are those of bins where there are many rows (row_spread()).
remote_truncation <- function(rows, weight, s, truncate) {
  if (is.null(truncate)) return(NULL)
  limits <- remote_limits(rows, weight, s, truncate)
  pick <- function(k) bquote(ifelse(u_z == 1, .(limits[1L, k]), .(limits[2L, k])))
  cut <- say_word(rows, "w", bquote(pmin(pmax(.(weight), .(pick(1L))), .(pick(2L)))))
  kinds <- list(raised = bquote(ifelse(.(cut) > .(weight) & .(s) > 0, 1, 0)),
                lowered = bquote(ifelse(.(cut) < .(weight) & .(s) > 0, 1, 0)))
  exprs <- unlist(lapply(kinds, function(moved) lapply(arm_words, function(arm) call("*", moved, arm))))
  moved <- row_sums(rows, exprs)
  table <- data.frame(arm = c("treated", "control"), low = limits[, 1L], high = limits[, 2L],
                      raised = unname(moved[1:2]), lowered = unname(moved[3:4]))
  list(weight = cut, table = table)
}

# See truncation_limits().
remote_limits <- function(rows, weight, s, truncate) {
  if (!is.null(truncate$bound)) return(rbind(c(0, truncate$bound), c(0, truncate$bound)))
  spread <- row_spread(rows, weight, lapply(arm_words, function(arm) call("*", s, arm)))
  of_arm <- function(name) core_weighted_quantiles(spread$most, spread[[name]], truncate$quantile)
  limits <- rbind(of_arm("treated"), of_arm("control"))
  if (truncate$quantile[1L] == 0) limits[, 1L] <- 0
  limits
}

# As warn_heavy_units().
warn_heavy_remote <- function(x) {
  rows <- study_of(x)$rows
  v <- lapply(arm_words, function(arm) call("*", remote_full_weight(x), arm))
  most <- row_ends(rows, v)$most
  heavy <- most > 0.1 * row_sums(rows, v) & x$size >= 20
  if (!any(heavy)) return(invisible(x))
  arms <- names(v)[heavy]
  warn_kind("weights", c(
    "The heaviest {arms} {cli::qty(length(arms))}unit{?s} {?carries/each carry} more than a tenth of {?its/their} arm's
     weight.",
    i = "{.fn assess_weights} lists {cli::qty(length(arms))}{?it/them} and {.fn assess_overlap} shows where scores lie;
         another estimand or a narrower study may be better supported."
  ))
}

# Bounds that hang on the order of the scores are those of bins where there are many rows (row_spread()).
remote_trim <- function(x, rule, bounds, rescore, call) {
  study <- study_of(x)
  range <- switch(rule,
    least_variance = , quantile = spread_bounds(x, rule, bounds),
    common_support = {
      ends <- score_ends(study, x$score, remote_kept_weight(x))
      core_common_support_of(ends["treated", ], ends["control", ], study$estimand)
    },
    range = c(low = bounds[1L], high = bounds[2L])
  )
  e <- x$score$fitted
  inside <- bquote(ifelse(.(e) >= .(range[["low"]]) & .(e) <= .(range[["high"]]), 1, 0))
  if (!is.null(x$kept_word)) inside <- bquote(.(inside) * .(x$kept_word))
  kept <- say_word(study$rows, "k", inside)
  size <- row_sums(study$rows, list(treated = bquote(.(kept) * u_z), control = bquote(.(kept) * (1 - u_z))))
  if (any(size < 2)) {
    arm <- names(which(size < 2))[1L]
    abort_input(c("Trimming leaves {count_text(size[[arm]])} {arm} {cli::qty(size[[arm]])}unit{?s} with scores from
                   {score_range_text(range[['low']], range[['high']])}.", i = "Use wider bounds."), call = call)
  }
  before <- x$size
  note <- if (any(size < before)) {
    sprintf("those with scores from %s, %s of %s treated and %s of %s control units",
            score_range_text(range[["low"]], range[["high"]]), count_text(size[["treated"]]),
            count_text(before[["treated"]]), count_text(size[["control"]]), count_text(before[["control"]]))
  }
  step <- list(verb = "trim", rule = rule, bounds = bounds, rescore = rescore, range = range,
               label = sprintf("trimmed (%s)", trim_label(rule, range)), fallen = before - size)
  score <- x$score
  score$ends <- score_ends(study, score, call("*", quote(u_s), kept))
  design <- new_remote_design(x, step, kind = "raw", score = score, kept = kept, note = as.character(note), size = size)
  design <- log_design(design, "trim", sprintf("fell off: %.0f treated, %.0f control", step$fallen[["treated"]],
                                               step$fallen[["control"]]),
                       list(rule = rule, low = range[["low"]], high = range[["high"]], rescore = rescore))
  if (rescore) remote_score(design, x$score$settings, call) else design
}

spread_bounds <- function(x, rule, share) {
  scores <- remote_scores(x)
  if (rule == "quantile") return(core_quantile_bounds(scores$e, scores$z, scores$s, share))
  core_least_variance_bounds(scores$e, scores$s)
}

# The scores of the units that are in as bins of each arm: e, z, s, as if each were a unit.
remote_scores <- function(x) {
  s <- remote_kept_weight(x)
  sums <- lapply(arm_words, function(arm) call("*", s, arm))
  spread <- row_spread(study_of(x)$rows, x$score$fitted, sums, range(x$score$ends))
  list(e = rep(spread$most, 2L), z = rep(1:0, each = nrow(spread)), s = c(spread$treated, spread$control))
}

# Moments of every covariate before and after, as balance_moments() gives them. Kolmogorov-Smirnov distances of numbers
# take passes of their own and are left to add_distribution_gaps().
remote_moments <- function(x) {
  study <- study_of(x)
  rows <- study$rows
  parts <- balance_parts(study)
  before <- rows$kept[["before"]]
  samples <- c(if (is.null(before)) list(before = quote(u_s)),
               if (alters_sample(x)) list(after = remote_full_weight(x)))
  made <- if (length(samples) > 0L) sample_moments(study, samples, parts)
  if (is.null(before)) rows$kept[["before"]] <- before <- made$before
  c(list(before = before), made["after"[alters_sample(x)]])
}

# Per row of the table of balance: list(covariate, level, kind, word, centre, 0 for shares).
balance_parts <- function(study) {
  unlist(unname(Map(function(column, name) {
    row <- function(level, kind, word, centre = 0) {
      list(covariate = name, level = level, kind = kind, word = word, centre = centre)
    }
    mean <- if (!column$kind %in% c("factor", "binary")) word_means(study$rows, list(column$word))
    own <- switch(column$kind,
      factor = lapply(seq_along(column$levels), function(k) row(column$levels[k], "level", level_word(column, k))),
      binary = list(row(column$levels, "binary", column$word)),
      list(row(NA_character_, column$kind, column$word, mean))
    )
    c(own, if (!is.null(column$flag)) list(row(missing_level, "missing", column$flag)))
  }, study$columns, names(study$columns))), recursive = FALSE)
}

sample_moments <- function(study, samples, parts) {
  rows <- study$rows
  arms <- arm_words
  away <- lapply(parts, function(part) {
    if (part$centre == 0) part$word else say_word(rows, "c", call("-", part$word, part$centre))
  })
  numeric <- vapply(parts, function(part) !part$kind %in% c("level", "binary", "missing"), NA)
  exprs <- list()
  for (sample in names(samples)) for (arm in names(arms)) {
    v <- say_word(rows, "a", call("*", samples[[sample]], arms[[arm]]))
    key <- function(what, k = "") paste(sample, arm, what, k)
    exprs[[key("total")]] <- v
    exprs[[key("square")]] <- call("*", v, v)
    for (k in seq_along(parts)) {
      exprs[[key("first", k)]] <- call("*", v, away[[k]])
      if (numeric[k]) exprs[[key("second", k)]] <- call("*", call("*", v, away[[k]]), away[[k]])
    }
  }
  sums <- row_sums(rows, exprs)
  lapply(stats::setNames(nm = names(samples)), function(sample) {
    of <- function(arm, what, k = "") sums[[paste(sample, arm, what, k)]]
    made <- lapply(seq_along(parts), function(k) {
      if (!numeric[k]) {
        share <- function(arm) of(arm, "first", k) / of(arm, "total")
        return(as.data.frame(core_share_balance(share("treated"), share("control"))))
      }
      own <- c(total_treated = of("treated", "total"), square_treated = of("treated", "square"),
               first_treated = of("treated", "first", k), second_treated = of("treated", "second", k),
               centre_treated = parts[[k]]$centre,
               total_control = of("control", "total"), square_control = of("control", "square"),
               first_control = of("control", "first", k), second_control = of("control", "second", k),
               centre_control = parts[[k]]$centre)
      found <- core_moments_of(as.matrix(own))[, 1L]
      data.frame(t(found), ks = NA_real_, ecdf_mean = NA_real_)
    })
    facts <- function(name) vapply(parts, function(part) as.character(part[[name]]), "")
    out <- cbind(covariate = facts("covariate"), level = facts("level"), kind = facts("kind"), do.call(rbind, made))
    attr(out, "sizes") <- c(
      treated = core_effective_size_of(of("treated", "total"), of("treated", "square")),
      control = core_effective_size_of(of("control", "total"), of("control", "square"))
    )
    rownames(out) <- NULL
    out
  })
}

# Effective sizes of the sample before and after the design; the last is that of the design.
remote_arm_sizes <- function(x) {
  moments <- design_moments(x)
  attr(moments[[length(moments)]], "sizes")
}
