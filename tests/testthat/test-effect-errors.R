# Errors that reproduce a paper's, one regression for both arms, and the forms of the bias correction: each against lm, glm,
# t.test or loops.

errors_of <- function(effect, terms = c("mean_treated", "mean_control", "difference")) unname(sqrt(diag(vcov(effect))[terms]))

test_that("classical, Welch and HC1 errors are those of the textbook", {
  data <- many_crews()
  study <- study_of_many(data)
  row_of <- function(error) subset(tidy(measure_effect(study, error = error)), term == "difference")
  fit <- lm(income ~ joined, data)
  classical <- row_of("classical")
  expect_equal(classical$std.error, sqrt(vcov(fit)[2, 2]))
  expect_equal(c(classical$conf.low, classical$conf.high), unname(confint(fit)[2, ]))
  welch <- row_of("welch")
  test <- t.test(data$income[data$joined == 1], data$income[data$joined == 0])
  expect_equal(welch$std.error, test$stderr)
  expect_equal(c(welch$p.value, welch$conf.low, welch$conf.high), c(test$p.value, as.vector(test$conf.int)))
  x <- model.matrix(fit)
  bread <- solve(crossprod(x))
  hc1 <- 300 / 298 * bread %*% crossprod(x * resid(fit)) %*% bread
  expect_equal(row_of("hc1")$std.error, sqrt(hc1[2, 2]))
  expect_equal(errors_of(measure_effect(study, error = "classical"))[1:2],
               sigma(fit) / sqrt(c(sum(data$joined), sum(1 - data$joined))))
  expect_match(paste(format(measure_effect(study, error = "classical")), collapse = " "), "classical \\(one variance")
})

test_that("stratified errors add up variances within strata, each stratum's own too", {
  data <- many_crews()
  design <- stratify_units(score_units(study_of_many(data)), strata = 4)
  effect <- measure_effect(design, error = "stratified")
  set <- design$set
  share <- prop.table(table(set[data$joined == 1]))
  pieces <- vapply(1:4, function(k) {
    y <- function(arm) data$income[set == k & data$joined == arm]
    c(var(y(1)) / length(y(1)), var(y(0)) / length(y(0)))
  }, numeric(2))
  expect_equal(errors_of(effect), sqrt(c(pieces %*% share^2, sum(share^2 * colSums(pieces)))))
  expect_equal(errors_of(effect, paste("stratum", 1:4)), sqrt(colSums(pieces)))
  expect_equal(unname(vcov(effect)["difference", "stratum 2"]), unname(share[2] * sum(pieces[, 2])))
  expect_identical(glance(effect)$df, 300 - 8)
  expect_equal(coef(effect), coef(measure_effect(design)))
  expect_match(paste(format(effect), collapse = " "), "within 4 strata, their sizes as given")
  lonely <- group_units(study_of_many(data, covariates = "port"), "exact")
  expect_match(measure_effect(lonely, error = "stratified")$inference, "within 3 cells")
  data$port[which(data$joined == 1)[1]] <- data$port[which(data$joined == 0)[1]] <- "island"
  expect_error(measure_effect(group_units(study_of_many(data, covariates = "port"), "exact"), error = "stratified"),
               "1 has one: stratum", class = "twin_error_input")
})

test_that("errors that do not fit are refused, with what does", {
  data <- many_crews()
  study <- study_of_many(data)
  design <- weigh_units(score_units(study))
  for (kind in c("classical", "welch", "hc1")) {
    expect_error(measure_effect(design, error = kind), "for the raw comparison", class = "twin_error_unsupported")
  }
  expect_error(measure_effect(study, error = "stratified"), "for strata and cells", class = "twin_error_unsupported")
  for (case in list(list(weight = "s"), list(cluster = "harbour"), list(stratum = "coast"))) {
    expect_error(measure_effect(do.call(study_of_many, case), error = "hc1"), "knows neither",
                 class = "twin_error_unsupported")
  }
  expect_error(measure_effect(study, error = "hc1", inference = "bootstrap"), "inference = \"bootstrap\"",
               class = "twin_error_unsupported")
  expect_error(measure_effect(study, estimator = "regression", error = "hc1"), "no use with", class = "twin_error_input")
  expect_error(measure_effect(study, error = "HC9"), "must be one of", class = "twin_error_input")
})

test_that("one regression for both arms gives lm's coefficient, and glm's averages with products", {
  data <- many_crews()
  study <- study_of_many(data, outcome = c("income", "direct"))
  none <- measure_effect(study, estimator = "regression", products = "none")
  fit <- lm(income ~ joined + boat + past + port, data)
  expect_equal(difference_of(none), unname(coef(fit)["joined"]))
  x <- model.matrix(fit)
  bread <- solve(crossprod(x))
  hc0 <- bread %*% crossprod(x * resid(fit)) %*% bread
  expect_equal(errors_of(none, "difference"), sqrt(hc0[2, 2] * 300 / 299))
  some <- measure_effect(study, "direct", "regression", products = ~boat)
  logit <- glm(direct ~ joined * boat + past + port, binomial, data, control = list(epsilon = 1e-14))
  treated <- data[data$joined == 1, ]
  means <- vapply(1:0, function(arm) mean(predict(logit, transform(treated, joined = arm), "response")), 0)
  expect_equal(unname(coef(some)[1:2]), means, tolerance = 1e-7)
  expect_match(paste(format(some), collapse = " "),
               "one\\s+logit\\s+model\\s+for\\s+both\\s+arms,\\s+with\\s+products\\s+of\\s+the\\s+treatment\\s+and\\s+boat")
  # products with every column are a model per arm
  apart <- measure_effect(study, estimator = "regression")
  full <- measure_effect(study, estimator = "regression", products = c("boat", "past", "port"))
  expect_equal(tidy(full)[4:9], tidy(apart)[4:9], tolerance = 1e-8)
})

test_that("the influence of a shared regression is the derivative in the sampling weight", {
  cases <- list(
    function(data) measure_effect(weigh_units(score_units(study_of_many(data, weight = "s"))), estimator = "regression",
                                  products = ~boat),
    function(data) measure_effect(weigh_units(score_units(study_of_many(data, weight = "s", outcome = "direct",
                                                                        estimand = "ATE"))),
                                  estimator = "augmented", products = "none"),
    function(data) measure_effect(score_units(study_of_many(data, weight = "s", outcome = "direct")),
                                  estimator = "targeted", products = ~port, family = "probit")
  )
  for (make in cases) expect_lt(max(influence_gap(make, many_crews())), 2e-5)
})

test_that("models side by side are compared by name, and what a shared model can't do is said", {
  study <- study_of_many()
  both <- compare_effects(
    basic = measure_effect(study, estimator = "regression", model = ~boat, products = "none"),
    full = measure_effect(study, estimator = "regression", products = "none")
  )
  expect_identical(tidy(both)$label, c("basic", "full"))
  expect_true(is.finite(glance(both)$p.value))
  expect_error(measure_effect(study, estimator = "regression", products = ~baot), "`products` must use the study's",
               class = "twin_error_input")
  expect_error(measure_effect(study, estimator = "regression", products = 3), "must be \"none\"",
               class = "twin_error_input")
  expect_error(measure_effect(study, products = "none"), "no use with", class = "twin_error_input")
  expect_error(measure_effect(study, "income", "regression", products = "none", family = "heteroskedastic_probit"),
               "model per arm", class = "twin_error_unsupported")
  reused <- pair_units(score_units(study), replacement = TRUE)
  expect_error(measure_effect(reused, estimator = "regression", products = "none"), "\\(see `correction`\\)",
               class = "twin_error_input")
})

test_that("a model for both arms names what it leaves out", {
  data <- many_crews()
  data$twice <- data$boat
  expect_warning(measure_effect(study_of_many(data, covariates = c("boat", "past", "twice")), estimator = "regression",
                                products = ~boat), "outcome model of both arms leaves out \"twice\"",
                 class = "twin_warning_aliased")
})
