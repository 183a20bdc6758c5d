# Overlap, weights, power and distances of distributions of a table in a database: from spreads (remote-spread.R) and
# sums.

# The weights of the sample before and after the design, as words.
remote_samples <- function(x) c(list(before = quote(u_s)), if (alters_sample(x)) list(after = remote_full_weight(x)))

# Per sample and arm of a spread: sums of the weight and counts of the units with one.
spread_sums <- function(samples) {
  sums <- unlist(lapply(samples, function(weight) {
    unlist(lapply(arm_words, function(arm) {
      list(v = call("*", weight, arm), n = call("*", kept_call(weight), arm))
    }))
  }))
  sums[!duplicated(names(sums))]
}

remote_overlap <- function(x) {
  study <- x$study
  rows <- study$rows
  e <- x$score$fitted
  samples <- remote_samples(x)
  spread <- row_spread(rows, e, spread_sums(samples), range(x$score$ends))
  ends <- lapply(samples, function(weight) score_ends(study, x$score, weight))
  table <- do.call(rbind, Map(remote_overlap_rows, list(rows), list(e), samples, names(samples), ends, list(spread)))
  rownames(table) <- NULL
  common <- core_common_support_of(ends$before["treated", ], ends$before["control", ], "ATE")
  beyond <- bquote(u_s > 0 & (.(e) < .(common[["low"]]) | .(e) > .(common[["high"]])))
  outside <- say_word(rows, "o", bquote(ifelse(.(beyond), 1, 0)))
  middle <- (spread$least + spread$most) / 2
  of <- function(sample, what) unlist(unname(spread[sprintf("%s.%s.%s", sample, names(arm_words), what)]))
  weights <- lapply(stats::setNames(nm = names(samples)), of, what = "v")
  score <- rep(middle, 2L)
  z <- rep(1:0, each = nrow(spread))
  linear_of <- remote_links[[x$score$link]]$start
  list(
    rows = table, common = common, auc = core_auc(rep(spread$most, 2L), z, weights$before), score = score,
    linear = linear_of(score), common_linear = linear_of(unname(common)), z = z, before = weights$before,
    after = weights$after, counts = lapply(stats::setNames(nm = names(samples)), of, what = "n"),
    outside = weights$before > 0 & (score < common[["low"]] | score > common[["high"]]),
    region = remote_regions(study, e, outside, table), coarse = attr(spread, "coarse")
  )
}

remote_overlap_rows <- function(rows, e, weight, sample, ends, spread) {
  other <- list(treated = ends["control", ], control = ends["treated", ])
  exprs <- unlist(lapply(stats::setNames(nm = names(arm_words)), function(arm) {
    v <- call("*", weight, arm_words[[arm]])
    beyond <- bquote(ifelse(.(e) < .(other[[arm]][[1L]]) | .(e) > .(other[[arm]][[2L]]), .(v), 0))
    list(n = kept_call(v), total = v, square = call("*", v, v), out = kept_call(beyond), beyond = beyond)
  }))
  sums <- row_sums(rows, exprs)
  one <- function(arm) {
    of <- function(what) sums[[paste0(arm, ".", what)]]
    q <- core_weighted_quantiles(spread$most, spread[[paste0(sample, ".", arm, ".v")]], c(0.1, 0.25, 0.5, 0.75, 0.9))
    data.frame(
      arm = arm, sample = sample, n = of("n"), ess = core_effective_size_of(of("total"), of("square")),
      min = ends[[arm, "low"]], q10 = q[1L], q25 = q[2L], median = q[3L], q75 = q[4L], q90 = q[5L],
      max = ends[[arm, "high"]], outside = of("out"), share_outside = of("beyond") / of("total")
    )
  }
  rbind(one("treated"), one("control"))
}

fetched_rows <- 20000

# As outside_regions(), from the rows of an arm or, where there are more, from about so many of them. Which ones hangs
# on late digits of the score, so that the same come each time and on every engine.
remote_regions <- function(study, e, outside, table) {
  rows <- study$rows
  before <- table[table$sample == "before", ]
  lapply(stats::setNames(nm = names(arm_words)), function(arm) {
    own <- before[before$arm == arm, ]
    if (own$outside < 10 || own$outside == own$n) return(NULL)
    digits <- bquote(.(e) * 1e7 - floor(.(e) * 1e7))
    condition <- bquote(.(arm_words[[arm]]) > 0 & u_s > 0 & .(digits) < .(min(1, fetched_rows / own$n)))
    found <- row_values(rows, c(lapply(study$columns, `[[`, "word"), list(.outside = outside)), condition)
    if (!any(found$.outside > 0) || all(found$.outside > 0)) return(NULL)
    columns <- Map(function(column, values) tree_column(replace(column, "values", list(values))), study$columns,
                   found[names(study$columns)])
    tree <- region_tree(columns, rep(TRUE, nrow(found)), found$.outside > 0)
    attr(tree, "of") <- own$n
    tree
  })
}

# Kolmogorov-Smirnov distance and mean distance of the distribution functions, of numbers in the rows of the table of
# balance; `coarse`, the most by which they can be off.
add_distribution_gaps <- function(moments, study, samples) {
  numeric <- Filter(function(column) !column$kind %in% c("factor", "binary"), study$columns)
  coarse <- 0
  found <- show_progress("Distributions", steps = length(numeric), work = function(tick) {
    Map(function(column, name) {
      tick(name)
      spread <- row_spread(study$rows, column$word, spread_sums(samples), column$ends)
      coarse <<- max(coarse, attr(spread, "coarse"))
      weights <- vapply(names(samples), function(sample) {
        c(spread[[paste0(sample, ".treated.v")]], spread[[paste0(sample, ".control.v")]])
      }, numeric(2L * nrow(spread)))
      gaps <- core_distribution_gaps(rep(spread$most, 2L), rep(1:0, each = nrow(spread)), weights)
      if (attr(spread, "coarse") > 0) gaps[2L, ] <- NA  # the mean over values needs each of them
      gaps
    }, numeric, names(numeric))
  })
  for (k in seq_along(samples)) for (name in names(numeric)) {
    at <- which(moments[[k]]$covariate == name & moments[[k]]$kind != "missing")
    moments[[k]][at, c("ks", "ecdf_mean")] <- as.list(found[[name]][, k])
  }
  list(moments = moments, coarse = coarse)
}

remote_weight_facts <- function(x) {
  samples <- remote_samples(x)
  spreads <- lapply(samples, weight_spread, rows = study_of(x)$rows)
  rows <- do.call(rbind, Map(function(spread, sample) {
    by_arm <- split(spread, factor(spread$arm, names(arm_words)))
    do.call(rbind, unname(Map(weight_row, by_arm, names(by_arm), sample)))
  }, spreads, names(spreads)))
  list(rows = rows, weights = lapply(samples, function(weight) NULL), spread = spreads,
       coarse = max(vapply(spreads, attr, 0, "coarse")),
       heaviest = remote_heaviest(x, samples[[length(samples)]]))
}

# The weights of both arms in order: data frame of arm, weight (mean of a bin), least, most, count, total and
# square (sum of squares).
weight_spread <- function(weight, rows) {
  coarse <- 0
  spread <- do.call(rbind, unname(Map(function(arm, name) {
    v <- say_word(rows, "a", call("*", weight, arm))
    bins <- row_spread(rows, v, list(count = kept_call(v), total = v, square = call("*", v, v)))
    coarse <<- max(coarse, attr(bins, "coarse"))
    bins <- bins[bins$count > 0, ]
    data.frame(arm = name, weight = bins$total / bins$count, least = bins$least, most = bins$most, count = bins$count,
               total = bins$total, square = bins$square)
  }, arm_words, names(arm_words))))
  structure(spread, coarse = coarse)
}

weight_row <- function(spread, arm, sample) {
  spread <- spread[order(-spread$weight), ]
  units <- sum(spread$count)
  total <- sum(spread$total)
  ess <- core_effective_size_of(total, sum(spread$square))
  at <- core_weighted_quantiles(spread$weight, spread$count, c(0.25, 0.5, 0.75)) * units / total
  top <- ceiling(units / 100)
  before <- cumsum(spread$count) - spread$count
  held <- sum(spread$weight * pmax(0, pmin(spread$count, top - before)))
  data.frame(
    arm = arm, sample = sample, units = units, total = total, least = min(spread$least) * units / total,
    lower = at[1L], median = at[2L], upper = at[3L], greatest = max(spread$most) * units / total, ess = ess,
    design_effect = units / ess, top_share = held / total, largest_share = max(spread$most) / total
  )
}

# The five heaviest units of each arm, by their id where the study has one.
remote_heaviest <- function(x, weight) {
  study <- study_of(x)
  rows <- scratch_rows(study$rows)
  id <- study$roles$id
  number <- !is.null(id) && is.numeric(study$source$columns[[id]])
  read <- study$source$dialect[[if (number) "double" else "text"]]
  if (!is.null(id)) rows$base[["u_i"]] <- read(quote_name(study$source, id))
  out <- lapply(names(arm_words), function(arm) {
    v <- say_word(rows, "a", call("*", weight, arm_words[[arm]]))
    wanted <- c(if (!is.null(id)) list(unit = quote(u_i)), list(weight = v),
                if (!is.null(design_score(x))) list(score = x$score$fitted))
    found <- row_values(rows, wanted, bquote(.(v) > 0), order = c("weight", if (!is.null(id)) "unit"), most = 5L)
    if (number) found$unit <- format(as_double(found$unit), digits = 15L, trim = TRUE, scientific = FALSE)
    total <- row_sums(rows, list(total = v))
    data.frame(arm = arm, found[setdiff(names(found), c("weight", "score"))], weight = found$weight,
               share = found$weight / total, found["score"[!is.null(found$score)]])
  })
  do.call(rbind, out)
}

# What the standard error of core_planned_se_of() needs of a design's weights: by arm, and by cluster.
remote_planned <- function(x) {
  study <- study_of(x)
  v <- remote_full_weight(x)
  size <- remote_arm_sizes(x)
  out <- list(sizes = size, own = sum(1 / size), common = 0, clusters = NA_integer_)
  if (is.null(study$cluster)) return(out)
  arms <- lapply(arm_words, function(arm) call("*", v, arm))
  sums <- row_sums_by(study$rows, c(arms, list(used = kept_call(v))), "u_g")
  inside <- sums[sums$used > 0, ]
  out$common <- sum((inside$treated / sum(inside$treated) - inside$control / sum(inside$control))^2)
  out$clusters <- nrow(inside)
  out
}

# As control_spread(), from sums.
remote_control_spread <- function(x, outcome) {
  study <- study_of(x)
  rows <- study$rows
  facts <- study$outcomes[[outcome]]
  v <- multiplied(call("*", remote_full_weight(x), arm_words$control),
                  if (is.null(facts$known)) 1 else facts$known)
  centre <- rows$check[[as.character(facts$value)]] / rows$count
  y <- say_word(rows, "y", call("-", facts$value, centre))
  used <- kept_call(v)
  exprs <- list(v = v, v2 = call("*", v, v), first = call("*", v, y), second = bquote(.(v) * .(y) * .(y)), n = used,
                sum = call("*", used, y), square = bquote(.(used) * .(y) * .(y)))
  if (is.null(study$cluster)) {
    sums <- as.list(row_sums(rows, exprs))
    intraclass <- 0
  } else {
    by <- row_sums_by(rows, exprs, "u_g")
    by <- as.matrix(by[by$n > 0, names(exprs)])
    sums <- as.list(colSums(by))
    mean <- sums$sum / sums$n
    intraclass <- core_intraclass(cbind(n = by[, "n"], sum = by[, "sum"] - mean * by[, "n"],
                                        square = by[, "square"] - 2 * mean * by[, "sum"] + mean^2 * by[, "n"]))
  }
  list(variance = core_variance_of(sums$v, sums$v2, sums$first, sums$second), intraclass = intraclass)
}

# What assess_score() shows, from one pass by groups of the score, one for the likelihood and a few for the line.
remote_calibration <- function(x, groups) {
  study <- x$study
  rows <- study$rows
  s <- x$score$fitted_to
  e <- x$score$fitted
  spread <- row_spread(rows, e, lapply(arm_words, function(arm) call("*", s, arm)), range(x$score$ends))
  total <- spread$treated + spread$control
  breaks <- unique(core_weighted_quantiles(spread$most, total, seq_len(groups - 1L) / groups))
  numbers <- as.list(as.double(seq_len(length(breaks) + 1L)))
  group <- say_word(rows, "k", call("*", stepped_word(quote(upto), e, breaks, numbers), kept_call(s)))
  exprs <- list(n = kept_call(s), s = s, s2 = call("*", s, s), e = call("*", s, e), z = call("*", s, quote(u_z)),
                low = e, high = e)
  sums <- row_sums_by(rows, exprs, as.character(group), c(rep("SUM", 5L), "MIN", "MAX"))
  sums <- sums[sums[[1L]] > 0, ]
  share <- sums$z / sums$s
  limits <- wilson_limits(share, core_effective_size_of(sums$s, sums$s2))
  wide <- length(share)
  within <- bquote(pmin(pmax(.(e), 1e-15), .(1 - 1e-15)))  # so that there is a logarithm
  loss <- row_sums(rows, list(loss = bquote(.(s) * log(ifelse(u_z == 1, .(within), 1 - .(within))))))
  list(
    rows = data.frame(group = as.integer(sums[[1L]]), units = sums$n, low = sums$low, high = sums$high,
                      mean_score = sums$e / sums$s, share_treated = share, conf.low = limits[seq_len(wide)],
                      conf.high = limits[wide + seq_len(wide)]),
    auc = core_auc(rep(spread$most, 2L), rep(1:0, each = nrow(spread)), c(spread$treated, spread$control)),
    loss = -loss[["loss"]] / sum(sums$s), units = sum(sums$n), line = remote_calibration_line(x, within),
    since = sum(sums$n) - sum(x$size), coarse = attr(spread, "coarse")
  )
}

# Intercept and slope of a logit of the treatment on the log odds of the score.
remote_calibration_line <- function(x, within) {
  study <- x$study
  linear <- if (x$score$link == "logit") x$score$linear else
    say_word(study$rows, "l", bquote(log(.(within) / (1 - .(within)))))
  columns <- remote_standardised(study, list(words = list(linear), names = paste("log odds", as.character(linear))))
  fit <- fit_remote(study$rows, columns, quote(u_z), x$score$fitted_to, "logit")
  if (fit$status != "converged" || length(fit$aliased) > 0L) return(c(NA_real_, NA_real_))
  raw_scale(fit$beta, fit$covariance, columns)$coefficients
}
