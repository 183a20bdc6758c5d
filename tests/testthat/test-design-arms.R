test_that("the multinomial score is that of a general optimiser", {
  data <- three_gears()
  scored <- score_units(arms_of(weight = "s"))
  x <- model.matrix(~ boat + past + port, data)
  arm <- match(data$gear, c("lines", "nets", "pots"))
  minus <- function(b) {
    linear <- cbind(0, x %*% matrix(b, 5))
    -sum(data$s * (linear[cbind(1:400, arm)] - log(rowSums(exp(linear)))))
  }
  reference <- optim(numeric(10), minus, method = "BFGS", control = list(reltol = 1e-15, maxit = 1000))
  expect_equal(tidy(scored)$estimate, reference$par, tolerance = 1e-4)
  expect_equal(scored$score$loglik, -reference$value, tolerance = 1e-9)
  expect_equal(tidy(scored)$std.error, sqrt(diag(solve(optimHess(reference$par, minus)))), tolerance = 1e-3)
  expect_equal(rowSums(scored$score$fitted), rep(1, 400))
})

test_that("each contrast weighs by its arm's own chance", {
  data <- three_gears()
  arm <- match(data$gear, c("lines", "nets", "pots"))
  check <- function(estimand, h) {
    scored <- score_units(arms_of(estimand = estimand))
    e <- scored$score$fitted
    design <- contrasts_of(weigh_units(scored))$pots
    hand <- ifelse(arm == 2, 0, h(e) / e[cbind(1:400, arm)])
    expect_equal(weights(design), hand, label = estimand)
  }
  check("ATE", function(e) 1)
  check("ATT", function(e) e[, 3])
  check("ATC", function(e) e[, 1])
  check("ATO", function(e) 1 / rowSums(1 / e))
  check("ATM", function(e) pmin(e[, 1], e[, 2], e[, 3]))
})

test_that("influence is the derivative in the sampling weight, of units of every arm, for every estimand", {
  data <- three_gears(150)
  for (estimand in c("ATE", "ATT", "ATC", "ATO", "ATM")) {
    estimate <- function(data) {
      arms <- arms_of(data, estimand = estimand, weight = "s")
      difference_of(suppressWarnings(measure_effect(contrasts_of(weigh_units(score_units(arms)))$nets)))
    }
    arms <- arms_of(data, estimand = estimand, weight = "s")
    effect <- measure_effect(suppressWarnings(contrasts_of(weigh_units(score_units(arms))))$nets)
    units <- c(match(c("lines", "nets", "pots"), data$gear), 50)
    expected <- vapply(units, function(i) influence_by_weight(data, i, estimate), 0)
    expect_equal(effect$influence[units, "difference"], expected, tolerance = 1e-4, label = estimand)
  }
})

test_that("counts, balance and comparisons are those of the two arms at hand", {
  data <- three_gears()
  arms <- arms_of(data)
  weighted <- weigh_units(score_units(arms))
  designs <- contrasts_of(weighted)
  expect_named(designs, c("nets", "pots"))
  text <- paste(format(designs$nets), collapse = " ")
  expect_match(text, sprintf("\"lines\": %d units", sum(data$gear == "lines")))
  pair <- contrasts_of(arms)$nets
  before <- tidy(assess_balance(designs$nets))
  alone <- tidy(assess_balance(pair))
  expect_equal(before$smd[before$sample == "before"], alone$smd)
  effect <- measure_effect(designs$nets)
  expect_identical(nobs(effect), sum(data$gear != "pots"))
  both <- compare_effects(!!!lapply(designs, measure_effect))
  expect_identical(tidy(both)$label, c("nets", "pots"))
  raw <- compare_effects(raw = measure_effect(pair), weighted = effect)
  means <- tapply(data$income, data$gear, mean)
  expect_equal(tidy(raw)$estimate[1], means[["nets"]] - means[["lines"]])
  expect_lte(max(nchar(c(format(arms), format(score_units(arms)), format(weighted)))), 80)
  expect_match(format(weighted), "worst |SMD|", fixed = TRUE, all = FALSE)
})

test_that("weights of several arms recover a known difference", {
  data <- three_gears(4000, seed = 8)
  data$income <- 10 + 3 * data$boat + 2 * data$past + 2 * (data$gear == "nets") - (data$gear == "pots") +
    withr::with_seed(1, rnorm(4000))
  designs <- contrasts_of(weigh_units(score_units(arms_of(data))))
  for (arm in c("nets", "pots")) {
    row <- tidy(measure_effect(designs[[arm]]))[3, ]
    truth <- c(nets = 2, pots = -1)[[arm]]
    expect_lt(abs(row$estimate - truth), 4 * row$std.error, label = arm)
  }
  raw <- measure_effect(contrasts_of(arms_of(data))$nets)
  expect_gt(abs(difference_of(raw) - 2), 0.5)
})

test_that("what several arms can't do is refused", {
  arms <- arms_of()
  expect_error(frame_arms(many_crews(), "joined", "income", "boat", reference = 0), "three arms or more",
               class = "twin_error_input")
  expect_error(frame_arms(three_gears(), "gear", "income", "boat", reference = "rods"), "must be one of the values",
               class = "twin_error_input")
  expect_error(score_units(arms, link = "probit"), "no use with more than two arms", class = "twin_error_input")
  expect_error(weigh_units(arms), "needs a score", class = "twin_error_input")
  expect_error(weigh_units(score_units(arms), moments = 2), "no use with.*inverse.*of more than two arms",
               class = "twin_error_input")
  expect_error(weigh_units(arms, "stable"), "is for two arms", class = "twin_error_unsupported")
  expect_error(contrasts_of(score_units(arms)), "no weights, strata, pairs or sets yet", class = "twin_error_input")
  expect_error(search_metric(arms), "must have two arms", class = "twin_error_input")
  design <- contrasts_of(weigh_units(score_units(arms)))$nets
  data <- three_gears()
  data$only <- as.double(data$gear == "pots" & seq_len(400) %% 2 == 0)
  error <- expect_error(score_units(frame_arms(data, "gear", "income", c("boat", "only"), reference = "lines")),
                        class = "twin_error_separation")
  expect_identical(error$covariates, "only")
  data$gear[1:399] <- rep(c("lines", "nets", "lines"), 133)
  data$gear[400] <- "pots"
  expect_error(frame_arms(data, "gear", "income", "boat", reference = "lines"), "fewer in \"pots\"",
               class = "twin_error_input")
})

test_that("any two arms are compared from the joint covariance, and a test says whether they differ at all", {
  data <- many_crews(300)
  data$gear <- rep(c("line", "net", "pot"), 100)
  frame <- function(reference, estimand = "ATE") {
    frame_arms(data, "gear", c("income", "direct"), c("boat", "past"), reference = reference, estimand = estimand)
  }
  effects <- measure_effect(weigh_units(score_units(frame("line"))))
  rows <- tidy(effects, part = "arms")
  expect_identical(rows$first, c("net", "pot", "pot"))
  expect_identical(rows$second, c("line", "line", "net"))
  other <- measure_effect(weigh_units(score_units(frame("net"))))
  own <- tidy(other)[tidy(other)$term == "difference" & tidy(other)$contrast == "pot vs net", ]
  expect_equal(rows$difference[3], own$estimate, tolerance = 1e-6)
  expect_equal(rows$std.error[3], own$std.error, tolerance = 1e-6)
  joint <- vcov(effects)
  at <- grep("difference", rownames(joint))
  d <- coef(effects)[at]
  p <- pchisq(drop(d %*% solve(joint[at, at], d)), 2, lower.tail = FALSE)
  expect_match(paste(format(effects), collapse = " "), paste("Do the arms differ at all\\? Joint test: p", sub("[.]", "[.]", p_phrase(p))))
  both <- measure_effect(weigh_units(score_units(frame("line"))), outcome = c("income", "direct"))
  expect_identical(nrow(tidy(both, part = "arms")), 6L)
  expect_error(tidy(measure_effect(weigh_units(score_units(frame("line", "ATT")))), part = "arms"), "other units", class = "twin_error_unsupported")
  expect_error(tidy(measure_effect(study_of_many(outcome = c("income", "direct")), c("income", "direct")), part = "arms"), class = "twin_error_input")
})
