# Designs, judgements and probes of a table in a database against those of the same rows in memory, on each engine that is
# here.

# Both studies of one table; roles as for frame_study().
both_studies <- function(engine, data, ..., env = parent.frame()) {
  connection <- with_table(engine, data, env = env)
  list(remote = frame_crews(remote_units(connection, "crews"), ...), local = frame_crews(data, ...))
}

expect_same_numbers <- function(a, b, tolerance = 1e-8) {
  names <- names(b)[vapply(b, is.numeric, NA)]
  expect_identical(nrow(a), nrow(b))
  expect_lt(gap(a[names], b[names]), tolerance)
}

# make: function of a study or scored design; the same effects come of both.
expect_same_designs <- function(pair, make, estimators = c("difference", "augmented"), ...) {
  designs <- lapply(pair, make)
  for (estimator in estimators) expect_same_effect(designs$remote, designs$local, "income", estimator, ...)
  invisible(designs)
}

# few: the shapes of statements alone, not each option.
every_design <- function(engine, few = FALSE) {
  pair <- both_studies(engine, plain_crews(), weight = "survey_weight", cluster = "harbour", estimand = "ATT", id = "crew_id")
  scored <- lapply(pair, score_units)
  for (link in c("probit", if (!few) "cloglog")) {
    other <- lapply(pair, score_units, link = link)
    expect_same_numbers(tidy(other$remote), tidy(other$local))
    expect_same_designs(other, weigh_units, "difference")
  }
  if (!few) expect_same_designs(scored, function(x) weigh_units(x, stabilise = TRUE), "difference")
  cut <- expect_same_designs(scored, function(x) weigh_units(x, truncate = list(quantile = c(0.02, 0.97))), "difference")
  expect_equal(tidy(cut$remote, part = "truncation"), tidy(cut$local, part = "truncation"), ignore_attr = TRUE)
  for (rule in c(if (!few) "least_variance", "quantile")) {
    kept <- lapply(scored, trim_units, rule = rule)
    expect_same_numbers(tidy(kept$remote, part = "trimming"), tidy(kept$local, part = "trimming"))
    expect_same_designs(kept, weigh_units, "difference")
  }
  strata <- expect_same_designs(scored, function(x) stratify_units(x, strata = 6), if (few) "difference" else
    c("difference", "augmented"))
  expect_same_numbers(tidy(strata$remote, part = "strata"), tidy(strata$local, part = "strata"))
  expect_same_designs(pair, function(x) weigh_units(x, "entropy", moments = 2), "difference")
  if (!few) expect_same_designs(pair, function(x) weigh_units(x, "balancing_score"), "difference")
  cells <- expect_same_designs(pair, function(x) {
    group_units(x, "coarsened", covariates = c("past_income", "gear", "in_debt"), bins = list(past_income = 5))
  }, "difference")
  expect_equal(tidy(cells$remote, part = "bins")[c("bin", "units")], tidy(cells$local, part = "bins")[c("bin", "units")])
  weighed <- lapply(scored, weigh_units)
  by <- lapply(weighed, measure_effect, outcome = "income", by = "port_size") |> suppressWarnings()
  expect_same_numbers(tidy(by$remote), tidy(by$local))
  for (judge in list(assess_overlap, assess_weights, assess_power)) {
    judged <- lapply(weighed, judge)
    expect_same_numbers(tidy(judged$remote), tidy(judged$local))
    expect_same_numbers(glance(judged$remote), glance(judged$local))
  }
  for (own in if (few) list(scored) else list(scored, other, kept)) {
    judged <- lapply(own, assess_score, groups = 8)
    expect_same_numbers(tidy(judged$remote), tidy(judged$local), 1e-7)
    expect_same_numbers(glance(judged$remote), glance(judged$local), 1e-7)
    expect_equal(judged$remote$since, judged$local$since)
  }
  effects <- lapply(weighed, measure_effect, estimator = "augmented")
  for (probe in list(probe_omitted, probe_stability)) {
    probed <- lapply(effects, probe)
    expect_same_numbers(tidy(probed$remote), tidy(probed$local))
    expect_same_numbers(glance(probed$remote), glance(probed$local))
  }
  bounds <- list(remote = probe_weights(effects$remote), local = probe_weights(effects$local, draws = 0, yardstick = FALSE))
  expect_same_numbers(tidy(bounds$remote), tidy(bounds$local))
}

test_that("every design, judgement and probe is that of rows in memory: SQLite", {
  every_design("sqlite")
})
test_that("every design, judgement and probe is that of rows in memory: PostgreSQL", {
  every_design("postgres")
})
test_that("every design, judgement and probe is that of rows in memory: MariaDB", {
  every_design("mariadb", few = TRUE)
})

test_that("strata and cells answer every estimand, weighted and clustered or not, within strata too", {
  data <- plain_crews()
  for (estimand in c("ATE", "ATC")) for (roles in list(list(), list(weight = "survey_weight", cluster = "harbour"))) {
    pair <- do.call(both_studies, c(list("sqlite", data, estimand = estimand), roles))
    strata <- expect_same_designs(lapply(pair, score_units), stratify_units, "difference")
    expect_true("stratum 5" %in% tidy(measure_effect(strata$remote))$term)
    expect_same_designs(pair, function(x) group_units(x, "exact", covariates = c("gear", "port_size", "crew_size")),
                        if (length(roles) > 0L) "augmented" else "difference")
  }
  scored <- lapply(pair, score_units)
  given <- expect_same_designs(scored, function(x) stratify_units(x, breaks_on = c(0.1, 0.2, 0.4)), "difference")
  expect_match(paste(format(given$remote), collapse = "\n"), "4  *0.400 to 1.000")
  expect_error(stratify_units(scored$remote, breaks_on = c(0.001, 0.5)), "Every stratum must hold both arms",
               class = "twin_error_input")
  expect_error(group_units(pair$remote, "exact", covariates = "boat"), "not", class = "twin_error_input")
  trimmed <- lapply(scored, trim_units)
  expect_same_designs(trimmed, stratify_units, "augmented")
  cells <- lapply(trimmed, group_units, method = "exact", covariates = c("gear", "crew_size"))
  expect_same_effect(cells$remote, cells$local, "income")
  said <- function(x) grep("kept|out:|Cells|that found", format(x), value = TRUE)
  expect_identical(gsub("\"1\"", "\"TRUE\"", said(cells$remote)), gsub("\"FALSE\"", "\"0\"", said(cells$local)))
})

test_that("sums over several designs of one table share its words, however often it is framed", {
  data <- plain_crews()
  remote <- remote_units(with_table("sqlite", data), "crews")
  one <- weigh_units(score_units(frame_crews(remote)))
  two <- stratify_units(score_units(frame_crews(remote)))
  local <- list(a = weigh_units(score_units(frame_crews(data))), b = stratify_units(score_units(frame_crews(data))))
  extra <- c("score", "squares", "cubes", "interactions")
  ours <- tidy(assess_balance(list(a = one, b = two), extra = extra))
  theirs <- tidy(assess_balance(local, extra = extra))
  expect_identical(ours$covariate, theirs$covariate)
  numbers <- setdiff(names(theirs)[vapply(theirs, is.numeric, NA)], c("ks", "ecdf_mean"))  # products tie up to rounding
  expect_lt(gap(ours[numbers], theirs[numbers]), 1e-8)
  plain <- theirs$kind %in% c("numeric", "binary", "level", "missing")
  expect_lt(gap(ours[plain, c("ks", "ecdf_mean")], theirs[plain, c("ks", "ecdf_mean")]), 1e-8)
  compared <- compare_effects(a = measure_effect(one), b = measure_effect(two))
  same <- compare_effects(a = measure_effect(local$a), b = measure_effect(local$b))
  expect_same_numbers(tidy(compared, part = "agreement"), tidy(same, part = "agreement"), 1e-7)
  other <- weigh_units(score_units(frame_crews(remote_units(remote$connection, "crews"))))
  expect_error(assess_balance(list(a = one, b = other)), "rows and columns of one table", class = "twin_error_input")
})

test_that("what can't be weighed, grouped or divided says why", {
  data <- plain_crews()
  data$past_income[data$joined] <- data$past_income[data$joined] - 300
  pair <- both_studies("sqlite", data)
  for (study in pair) {
    expect_error(weigh_units(study, "entropy"), "Out of their range: \"past_income\"", class = "twin_error_infeasible")
  }
  expect_error(weigh_units(pair$remote, "entropy"), "fewer `moments` or merged levels", class = "twin_error_infeasible")
  expect_error(weigh_units(pair$remote), "needs a propensity score", class = "twin_error_input")
  data <- plain_crews()
  data$number <- seq_len(nrow(data)) + 5000L
  study <- frame_crews(remote_units(with_table("sqlite", data), "crews"), id = "number")
  weighed <- weigh_units(score_units(study))
  expect_match(grep("treated", format(assess_weights(weighed)), value = TRUE)[5], "^  treated  [5-7]\\d{3}  ")
  long <- score_units(study, model = ~ boat_length) |> group_units("exact", covariates = "crew_size")
  expect_s3_class(long, "twin_design")
  data[sprintf("v%d", 1:9)] <- lapply(1:9, function(k) seq_len(nrow(data)) %% 97 + k)
  many <- frame_crews(remote_units(with_table("sqlite", data), "crews"), covariates = sprintf("v%d", 1:9))
  expect_error(group_units(many, "exact"), "2\\^53", class = "twin_error_unsupported")
  expect_error(measure_effect(weighed, by = "boat_length"), "few levels", class = "twin_error_input")
  expect_error(measure_effect(weighed, by = "coast"), "not among the study's covariates", class = "twin_error_input")
  expect_error(assess_power(weighed, outcome = "incom"), "Did you mean \"income\"", class = "twin_error_input")
})

test_that("a unit that carries more than a tenth of its arm is told, one and two", {
  data <- withr::with_seed(1, data.frame(x = rnorm(200), z = rbinom(200, 1, 0.5), w = 1))
  data$y <- data$x
  weigh <- function(heavy) {
    data$w[heavy] <- 40
    remote <- remote_units(with_table("sqlite", data, "units"), "units")
    weigh_units(score_units(frame_study(remote, "z", "y", "x", weight = "w", estimand = "ATE")))
  }
  first <- c(which(data$z == 1)[1], which(data$z == 0)[1])
  expect_warning(weigh(first[1]), "heaviest treated unit carries .* of its\\s+arm's", class = "twin_warning_weights")
  expect_warning(weigh(first), "treated and control units each carry .* of their\\s+arm's", class = "twin_warning_weights")
})

test_that("spreads of many rows are close and say how close", {
  n <- 20000
  data <- withr::with_seed(1, data.frame(a = exp(3 * rnorm(n)), b = rbinom(n, 4, 0.4), c = ifelse(runif(n) < 0.5, 0, rnorm(n))))
  data$z <- withr::with_seed(2, rbinom(n, 1, plogis(0.3 * log(data$a) - 0.4 * data$b + data$c)))
  data$y <- data$a + data$z
  pair <- list(frame_study(remote_units(with_table("sqlite", data, "units"), "units"), "z", "y", c("a", "b", "c"), estimand = "ATE"),
               frame_study(data, "z", "y", c("a", "b", "c"), estimand = "ATE"))
  weighed <- lapply(pair, function(study) suppressWarnings(weigh_units(score_units(study))))
  balance <- lapply(weighed, assess_balance)
  ks <- lapply(balance, function(one) tidy(one)$ks)
  coarse <- balance[[1]]$coarse
  expect_gt(coarse, 0)
  expect_lte(coarse, 1 / 1000)
  expect_true(all(ks[[1]] <= ks[[2]] + 1e-8 & ks[[2]] <= ks[[1]] + coarse))
  exact <- tidy(balance[[1]])$covariate == "b"
  expect_equal(ks[[1]][exact], ks[[2]][exact])
  expect_false(anyNA(tidy(balance[[1]])$ecdf_mean[exact]))
  expect_true(all(is.na(tidy(balance[[1]])$ecdf_mean[tidy(balance[[1]])$covariate == "a"])))
  expect_match(gsub("\\s+", " ", paste(format(balance[[1]]), collapse = " ")),
               sprintf("KS is counted in bins: at most %.4f too small\\.", coarse))
  overlap <- lapply(weighed, assess_overlap)
  sure <- c("n", "ess", "min", "max", "outside", "share_outside")
  expect_lt(gap(tidy(overlap[[1]])[sure], tidy(overlap[[2]])[sure]), 1e-6)
  reached <- function(e, q) mean(weighed[[2]]$score$fitted[pair[[2]]$z == 1] <= q)
  for (q in c("q10", "median", "q90")) {
    expect_lt(abs(reached(e, tidy(overlap[[1]])[[q]][1]) - reached(e, tidy(overlap[[2]])[[q]][1])), 2e-3)
  }
  expect_lt(abs(overlap[[1]]$auc - overlap[[2]]$auc), 1e-4)
  expect_match(paste(format(overlap[[1]]), collapse = " "), "counted in bins that\\s+hold at most 0.1% of an arm")
  drawn <- ggplot2::ggplot_build(plot(overlap[[1]]))$data[[2]]
  whole <- ggplot2::ggplot_build(plot(overlap[[2]]))$data[[2]]
  bar <- function(data) paste(data$fill, data$PANEL, round(data$x, 4))
  both <- match(bar(drawn), bar(whole))
  expect_lt(max(abs(drawn$y - whole$y[both]), na.rm = TRUE), 2e-3)
  expect_lt(sum(abs(drawn$y[is.na(both)])), 2e-3)
  weights <- lapply(weighed, function(design) tidy(assess_weights(design)))
  sure <- c("units", "total", "least", "greatest", "ess", "design_effect", "largest_share")
  expect_lt(gap(weights[[1]][sure], weights[[2]][sure]), 1e-6)
  expect_lt(gap(weights[[1]]$top_share, weights[[2]]$top_share), 1e-3)
  spread <- lapply(weighed, function(design) plot(assess_weights(design), "concentration")$data)
  expect_equal(vapply(spread, function(data) max(data$held), 0), c(1, 1))
})

test_that("who has no counterpart is told from a sample that is stated, the same each time", {
  n <- 130000
  data <- withr::with_seed(5, data.frame(x = rnorm(n), w = runif(n)))
  data$z <- withr::with_seed(6, rbinom(n, 1, plogis(data$x)))
  data$x[data$z == 0 & data$w < 0.002] <- -9  # controls like no treated unit
  data$y <- data$x
  study <- frame_study(remote_units(with_table("sqlite", data, "units"), "units"), "z", "y", c("x", "w"), estimand = "ATE")
  scored <- score_units(study)
  text <- lapply(1:2, function(k) format(assess_overlap(scored)))
  expect_identical(text[[1]], text[[2]])
  expect_match(paste(text[[1]], collapse = " "), "control units have no counterpart \\(in a sample of (19|20),\\d{3} of 6\\d,\\d{3}\\)")
  expect_match(paste(text[[1]], collapse = " "), "where x< -")
})

test_that("the normal distribution in SQL is that of R", {
  x <- c(-36, -20, -8, -7, -5, -2, -0.1, 0, 0.3, 1, 3, 6)
  source <- remote_units(with_table("sqlite", data.frame(x = x), "points"), "points")
  rows <- carefultwin:::new_rows(source, c(u_x = "x"), character())
  said <- carefultwin:::normal_words(rows, quote(u_x))
  found <- carefultwin:::row_values(rows, c(list(x = quote(u_x)), said), quote(u_x > -100))
  expect_equal(found$density, dnorm(x), tolerance = 1e-14)
  expect_lt(max(abs(found$below / pnorm(x) - 1)), 1e-8)
  expect_lt(max(abs(found$below / pnorm(x) - 1)[abs(x) <= 3]), 1e-12)
  expect_lt(max(abs(found$above - pnorm(x, lower.tail = FALSE))), 1e-14)
})

test_that("more sums than an engine has columns go into statements in blocks", {
  n <- 1000
  x <- withr::with_seed(3, matrix(rnorm(n * 80), n, dimnames = list(NULL, sprintf("x%03d", 1:80))))
  data <- data.frame(z = withr::with_seed(4, rbinom(n, 1, plogis(0.3 * x[, 1]))), y = x[, 2], x)
  pair <- list(frame_study(remote_units(with_table("sqlite", data, "wide"), "wide"), "z", "y", colnames(x)),
               frame_study(data, "z", "y", colnames(x)))
  scored <- lapply(pair, score_units)
  expect_lt(gap(tidy(scored[[1]])$estimate, tidy(scored[[2]])$estimate), 1e-7)
})

test_that("the ladder climbs the same rungs as in memory, without fitting every candidate", {
  data <- plain_crews()
  remote <- remote_units(with_table("sqlite", data), "crews")
  asks <- list(list(), list(second_order = "all", thresholds = c(linear = 20, second = 3)), list(link = "probit"),
               list(link = "cloglog", model = ~ gear + I(market_km^2)))
  for (ask in asks) {
    roles <- if (length(ask) == 0L) list(weight = "survey_weight") else list()
    climb <- function(x) {
      suppressWarnings(do.call(score_units, c(list(do.call(frame_crews, c(list(x), roles)), select = "ladder"), ask)))
    }
    ours <- climb(remote)
    local <- climb(data)
    expect_equal(tidy(ours, part = "steps"), tidy(local, part = "steps"), tolerance = 1e-7)
    expect_lt(gap(tidy(ours)$estimate, tidy(local)$estimate), 1e-6)
    said <- function(design) grep("^  Score|did not enter|^  [a-zI(].*(yes|no)$", format(design), value = TRUE)
    expect_identical(said(ours), said(local))
  }
  expect_same_effect(weigh_units(ours), weigh_units(local), "income", "augmented")
  expect_error(score_units(frame_crews(remote), select = "ladder", thresholds = c(linear = 1e6, second = 1)), "adds no term",
               class = "twin_error_input")
  # more than a hundred candidates on the way, and a fit takes three passes
  study <- frame_crews(remote)
  before <- study$source$counter$passes
  score_units(study, select = "ladder")
  expect_lt(study$source$counter$passes - before, 200)
})

test_that("a term that separates the arms is stepped over, and one given is refused", {
  data <- plain_crews()
  data$gate <- as.double(data$joined) * 10 + data$crew_size / 100
  remote <- remote_units(with_table("sqlite", data), "crews")
  frame <- function(x) frame_study(x, "joined", "income", c("boat_length", "gate", "past_income"))
  steps <- function(x) tidy(score_units(frame(x), select = "ladder"), part = "steps")
  expect_equal(steps(remote), steps(data), tolerance = 1e-7)
  expect_error(score_units(frame(remote), select = "ladder", model = ~ gate), "separated", class = "twin_error_separation")
})

test_that("survey strata of single units have the errors of rows in memory", {
  data <- plain_crews()
  remote <- remote_units(with_table("sqlite", data), "crews")
  frame <- function(x, ...) frame_crews(x, weight = "survey_weight", stratum = "coast", ...)
  for (design in list(function(x) weigh_units(score_units(frame(x))),
                      function(x) weigh_units(trim_units(score_units(frame(x, estimand = "ATE")), "range", bounds = c(0.1, 0.8))),
                      function(x) stratify_units(score_units(frame(x))))) {
    expect_same_effect(design(remote), design(data), "income")
    expect_same_effect(design(remote), design(data), "sold_direct")
  }
  expect_match(paste(format(measure_effect(design(remote))), collapse = " "), "robust, within coast")
  data$coast[data$coast == data$coast[1]][1] <- "lonely"
  alone <- frame(remote_units(with_table("sqlite", data), "crews"))
  expect_error(measure_effect(weigh_units(score_units(alone))), "at least 2 units.*only one is left in \"lonely\"", class = "twin_error_input")
  expect_same_effect(weigh_units(score_units(alone)), weigh_units(score_units(frame(data))), "income", lonely_stratum = "centre")
})
