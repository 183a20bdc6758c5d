paired <- function(..., data = many_crews(), estimand = "ATT", weight = NULL) {
  pair_units(score_units(study_of_many(data, estimand = estimand, weight = weight)), ...)
}

linear_of <- function(design) design_data(design)$.linear_score

test_that("each caliper holds in its own unit", {
  data <- many_crews()
  design <- paired(caliper = c(score = 0.3, boat = 0.4), caliper_unit = c(boat = "raw"))
  pairs <- pairs_of(design)
  expect_gt(nrow(pairs), 20)
  expect_lte(max(abs(data$boat[pairs$treated] - data$boat[pairs$control])), 0.4)
  linear <- linear_of(design)
  z <- data$joined
  sd <- sqrt((var(linear[z == 1]) + var(linear[z == 0])) / 2)
  expect_lte(max(pairs$distance), 0.3 * sd)
  expect_equal(pairs$distance, abs(linear[pairs$treated] - linear[pairs$control]))
  near <- paired(on = "mahalanobis", caliper = c(distance = 0.5))
  expect_lte(max(pairs_of(near)$distance), 0.5)
  expect_gt(max(pairs_of(paired(on = "mahalanobis"))$distance), 0.5)
})

test_that("exact columns agree, and nobody is paired with what is kept apart", {
  data <- many_crews()
  data$family <- rep(1:150, 2)
  data$family[1:10] <- NA
  pairs <- pairs_of(paired(data = data, exact = c("port", "coast"), caliper = 1))
  expect_identical(data$port[pairs$treated], data$port[pairs$control])
  expect_identical(data$coast[pairs$treated], data$coast[pairs$control])
  data$family <- rep(1:3, 100)
  apart <- pairs_of(paired(data = data, apart = "family"))
  expect_gt(nrow(apart), 20)
  expect_true(all(data$family[apart$treated] != data$family[apart$control]))
})

test_that("a fixed ratio gives exactly k, a variable one up to k, and weights share the treated unit's 1", {
  fixed <- paired(ratio = 2, caliper = 1)
  expect_setequal(table(pairs_of(fixed)$set), 2)
  data <- many_crews()
  data <- data[data$joined == 0 | seq_len(300) %% 4 == 0, ]
  ranged <- paired(data = data, ratio = c(1, 3), caliper = 0.3)
  expect_setequal(table(pairs_of(ranged)$set), 1:3)
  w <- weights(ranged)
  pairs <- pairs_of(ranged)
  expect_equal(w[pairs$treated], rep(1, nrow(pairs)))
  expect_equal(sum(w[unique(pairs$control)]), length(unique(pairs$set)))
  reasons <- tidy(fixed, part = "unmatched")
  expect_true("too few partners left" %in% reasons$reason)
  expect_identical(nrow(reasons) + length(unique(c(pairs_of(fixed)$treated, pairs_of(fixed)$control))), 300L)
})

test_that("optimal pairs are never farther in total than greedy ones of the same number", {
  for (on in c("score", "mahalanobis")) {
    greedy <- pairs_of(paired(on = on, caliper = Inf, exact = "coast"))
    optimal <- pairs_of(paired(on = on, caliper = Inf, exact = "coast", search = "optimal"))
    expect_identical(nrow(optimal), nrow(greedy))
    expect_lt(sum(optimal$distance), sum(greedy$distance))
  }
})

test_that("Mahalanobis pairs do not move when covariates are rescaled, and distances are the textbook's", {
  data <- many_crews()
  design <- paired(on = "mahalanobis", covariates = c("boat", "past"), replacement = TRUE)
  scaled <- transform(data, boat = boat * 1000 - 7, past = -past)
  expect_identical(pairs_of(paired(on = "mahalanobis", covariates = c("boat", "past"), replacement = TRUE,
                                   data = scaled))$control, pairs_of(design)$control)
  pairs <- pairs_of(design)
  x <- as.matrix(data[c("boat", "past")])
  gap <- x[pairs$treated, ] - x[pairs$control, ]
  expect_equal(pairs$distance, sqrt(rowSums((gap %*% solve(cov(x))) * gap)))
  within <- pairs_of(paired(on = "mahalanobis", covariates = c("boat", "past"), replacement = TRUE, spread = "within"))
  size <- table(data$joined)
  pooled <- (size[["1"]] * cov(x[data$joined == 1, ]) + size[["0"]] * cov(x[data$joined == 0, ])) / 300
  gap <- x[within$treated, ] - x[within$control, ]
  expect_equal(within$distance, sqrt(rowSums((gap %*% solve(pooled)) * gap)))
})

test_that("diagonal and given metrics weigh squared differences", {
  data <- many_crews()
  pairs <- pairs_of(paired(on = "diagonal", covariates = c("boat", "past"), replacement = TRUE))
  gap <- (data[pairs$treated, c("boat", "past")] - data[pairs$control, c("boat", "past")])
  expect_equal(pairs$distance, sqrt(gap$boat^2 / var(data$boat) + gap$past^2 / var(data$past)))
  given <- pairs_of(paired(metric = c(boat = 4, port = 100, score = 0.5), replacement = TRUE))
  expect_identical(data$port[given$treated], data$port[given$control])
  square <- matrix(c(2, 0.5, 0.5, 1), 2, dimnames = rep(list(c("boat", "past")), 2))
  full <- pairs_of(paired(metric = square, replacement = TRUE))
  gap <- as.matrix(data[full$treated, c("boat", "past")] - data[full$control, c("boat", "past")])
  expect_equal(full$distance, unname(sqrt(rowSums((gap %*% square) * gap))))
})

test_that("with replacement the order of the rows does not matter", {
  data <- many_crews()
  turn <- withr::with_seed(2, sample(300))
  straight <- paired(replacement = TRUE, ratio = 2)
  turned <- paired(replacement = TRUE, ratio = 2, data = data[turn, ])
  expect_equal(weights(turned), weights(straight)[turn])
  expect_equal(difference_of(measure_effect(turned)), difference_of(measure_effect(straight)))
})

test_that("with replacement every seeker has its nearest, ties share, and reuse is counted", {
  data <- data.frame(x = c(0, 2, 4, 1, 1, 3, 9), joined = c(1, 1, 1, 0, 0, 0, 0), income = 1:7)
  study <- frame_study(data, "joined", "income", "x")
  design <- pair_units(study, on = "diagonal", replacement = TRUE)
  expect_equal(weights(design), c(1, 1, 1, 1 / 2 + 1 / 3, 1 / 2 + 1 / 3, 1 / 3 + 1, 0))
  expect_identical(tidy(design, part = "reuse")$times, c(2L, 2L, 2L))
  first <- pair_units(study, on = "diagonal", replacement = TRUE, ties = "first")
  expect_equal(weights(first), c(1, 1, 1, 2, 0, 1, 0))
  expect_match(paste(format(design), collapse = " "), "most used: row 4, 2 times")
})

test_that("the ATC lets controls seek, the ATE both arms", {
  flipped <- transform(many_crews(), joined = 1 - joined)
  att <- pairs_of(paired(on = "mahalanobis", order = "given"))
  atc <- pairs_of(paired(on = "mahalanobis", order = "given", data = flipped, estimand = "ATC"))
  expect_identical(atc$control, att$treated)
  expect_identical(atc$treated, att$control)
  both <- paired(on = "mahalanobis", replacement = TRUE, estimand = "ATE")
  expect_true(all(weights(both) >= 1))
  expect_equal(sum(weights(both)), 600)
  expect_error(paired(estimand = "ATE"), class = "twin_error_unsupported")
})

test_that("every unit left out has its reason", {
  data <- data.frame(
    x = c(1, 2, 3, 50, 1.5, 1.1, 3.1, 99), port = c("a", "a", "b", "a", "c", "a", "b", "a"),
    family = c(1, 2, 3, 4, 5, 1, 7, 8), joined = c(1, 1, 1, 1, 1, 0, 0, 0), income = 1:8
  )
  study <- frame_study(data, "joined", "income", "x")
  out <- tidy(pair_units(study, on = "diagonal", exact = "port", apart = "family", caliper = c(x = 5),
                         caliper_unit = "raw", search = "optimal"), part = "unmatched")
  expect_identical(out$row, c(1L, 4L, 5L, 8L))
  expect_identical(out$reason, c("only units to be kept apart", "nobody within the caliper", "no exact partner",
                                 "not needed"))
  crowd <- frame_study(data.frame(x = 1:6, joined = c(1, 1, 1, 1, 0, 0), income = 1:6), "joined", "income", "x")
  left <- tidy(pair_units(crowd, on = "diagonal"), part = "unmatched")
  expect_identical(left, data.frame(row = 3:4, arm = "treated", reason = "partners ran out"))
})

test_that("bad input is refused in so many words", {
  input <- "twin_error_input"
  data <- many_crews()
  expect_error(paired(caliper = 0), class = input)
  expect_error(paired(caliper = -1), class = input)
  expect_error(paired(caliper = 1e-12), class = input)
  expect_error(paired(caliper = c(boot = 1)), class = input, regexp = "boat")
  expect_error(paired(caliper = c(port = 1)), class = input, regexp = "exact")
  expect_error(paired(exact = "prot"), class = input)
  absent <- data
  absent$port[c(3, 8)] <- NA
  caught <- tryCatch(paired(data = absent, exact = "port"), twin_error_input = function(e) e)
  expect_identical(caught$rows, c(3L, 8L))
  data$own <- seq_len(300)
  expect_error(paired(data = data, exact = "own"), class = input, regexp = "agree")
  expect_error(paired(ratio = 1.5), class = input)
  expect_warning(again <- paired(replacement = TRUE, order = "given"), "no use", class = "twin_warning_unused")
  expect_identical(again$pairs, paired(replacement = TRUE)$pairs)
  expect_gt(sum(weights(pair_units(study_of_many(), on = "mahalanobis", caliper = Inf)) > 0), 100)  # needs no score
  expect_warning(five <- paired(ratio = 5), "ratio = c\\(1, 5\\)", class = "twin_warning_short_of_partners")
  treated <- five$study$z == 1
  expect_lt(sum(five$weight[treated]), sum(paired(ratio = c(1, 5))$weight[treated]))
  expect_error(paired(ties = "first"), class = input)
  expect_error(paired(search = "optimal", order = "given"), class = input)
  expect_error(paired(order = "shuffled"), class = input)
  expect_error(paired(covariates = "boat"), class = input)
  expect_error(paired(on = "metric"), class = input)
  expect_error(paired(metric = c(boats = 1)), class = input, regexp = "boat")
  expect_error(paired(metric = c(boat = -1)), class = input)
  study <- study_of_many()
  expect_error(pair_units(study), class = input, regexp = "score_units")
  expect_error(pair_units(study, on = "mahalanobis", order = "hardest"), class = input)
  expect_error(pair_units(study, on = "mahalanobis", caliper = 0.2), class = input)
  # columns can become constant where units have been trimmed
  flat <- cbind(a = c(1, 1, 2), b = c(5, 5, 6))
  expect_error(varying_columns(flat, c(1, 1, 0), FALSE, NULL), class = input, regexp = "varies")
  flat[2, "b"] <- 7
  expect_warning(left <- varying_columns(flat, c(1, 1, 0), FALSE, NULL), class = "twin_warning_constant")
  expect_identical(colnames(left$matrix), "b")
})

test_that("a singular covariance warns with the columns and pairs as without them", {
  data <- many_crews()
  data$twice <- 2 * data$boat
  study <- study_of_many(data, covariates = c("boat", "past", "twice"))
  caught <- NULL
  design <- withCallingHandlers(pair_units(study, on = "mahalanobis"), twin_warning_singular = function(w) {
    caught <<- w$columns
    rlang::cnd_muffle(w)
  })
  expect_identical(caught, "twice")
  plain <- pair_units(study, on = "mahalanobis", covariates = c("boat", "past"))
  expect_identical(pairs_of(design)$control, pairs_of(plain)$control)
})

test_that("more treated than controls works and says who was left", {
  data <- many_crews()
  data <- data[data$joined == 1 | seq_len(300) %% 4 == 0, ]
  for (search in c("greedy", "optimal")) {
    design <- paired(data = data, caliper = Inf, search = search)
    expect_identical(nrow(pairs_of(design)), sum(data$joined == 0))
    expect_match(paste(format(design), collapse = " "), "partners +ran +out")
    expect_match(paste(format(measure_effect(design)), collapse = " "), "units +that +found +a +partner")
  }
})

test_that("the same pairs come from any number of threads", {
  withr::local_options(carefultwin.threads = 1)
  one <- paired(on = "mahalanobis", replacement = TRUE, ratio = 2)
  withr::local_options(carefultwin.threads = 2)
  expect_identical(pairs_of(paired(on = "mahalanobis", replacement = TRUE, ratio = 2)), pairs_of(one))
})

test_that("the pictures draw matched and left out units, distances, and lines", {
  design <- paired(caliper = 0.1)
  points <- ggplot2::layer_data(plot(design))
  expect_identical(nrow(points), 300L)
  expect_identical(sum(points$shape == 16), sum(weights(design) > 0))
  expect_identical(sum(ggplot2::layer_data(plot(design, view = "distances"))$count), nrow(pairs_of(design)) + 0)
  lines <- ggplot2::layer_data(plot(design, view = "pairs", axes = c("boat", "past")))
  expect_setequal(lines$x, many_crews()$boat[pairs_of(design)$treated])
  expect_error(plot(design, view = "pairs", axes = "port"), class = "twin_error_input")
  expect_error(plot(score_units(study_of_many()), view = "distances"), class = "twin_error_input")
})

test_that("the matched data can be written with sets and weights", {
  design <- paired(ratio = 2, caliper = 1)
  file <- withr::local_tempfile(fileext = ".csv")
  write_units(design_data(design), file)
  back <- read_units(file)
  expect_equal(back$.weight, weights(design))
  expect_identical(sum(!is.na(back$.set)), sum(weights(design) > 0))
})

test_that("without a word the caliper on the score is 0.2 pooled sds, and there is none on other distances", {
  study <- study_of_many()
  scored <- score_units(study)
  l <- scored$score$linear
  z <- many_crews()$joined
  width <- 0.2 * sqrt((var(l[z == 1]) + var(l[z == 0])) / 2)
  pairs <- pairs_of(pair_units(scored))
  expect_lte(max(pairs$distance), width)
  expect_identical(pairs, pairs_of(pair_units(scored, caliper = width, caliper_unit = "raw")))
  # something wider would have let in more
  expect_lt(nrow(pairs), nrow(pairs_of(pair_units(scored, caliper = 1.1 * width, caliper_unit = "raw"))))
  expect_identical(pairs_of(pair_units(study, on = "mahalanobis")),
                   pairs_of(pair_units(study, on = "mahalanobis", caliper = c(distance = Inf))))
})
