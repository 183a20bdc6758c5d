# The register of learners: Methods, "Propensity score". One entry each; adding one is adding its entry here.

# package: where it comes from, asked for when it is used. fit: function(x, y, weight, numbers) giving a model, x a data
# frame of covariates without missing values, numbers: is y a number, not 0/1? predict: function(model, x, numbers), one
# number (a probability where y is 0/1) per row. steps: are predictions made in steps, which follow a slope slowly?
new_learner <- function(package, fit, predict, steps = FALSE) {
  stopifnot(is.character(package), is.function(fit), is.function(predict), is.logical(steps))
  list(package = package, fit = fit, predict = predict, steps = steps)
}

# Penalised regressions that differ in alpha alone.
penalised_learner <- function(alpha) {
  force(alpha)
  wide <- function(x) {
    x <- learner_matrix(x)
    if (ncol(x) < 2L) cbind(x, 0) else x  # glmnet wants two columns
  }
  new_learner(
    "glmnet",
    fit = function(x, y, weight, numbers) {
      glmnet::cv.glmnet(wide(x), y, weights = weight, family = if (numbers) "gaussian" else "binomial", alpha = alpha,
                        nfolds = 5)
    },
    predict = function(model, x, numbers) {
      stats::predict(model, wide(x), s = "lambda.min", type = "response")[, 1L]
    }
  )
}

learners <- list(
  logit = new_learner(
    "stats",
    fit = function(x, y, weight, numbers) {
      fit_regression_learner(learner_matrix(x), y, weight, if (numbers) "gaussian" else "logit")
    },
    predict = function(model, x, numbers) {
      linear <- drop(cbind(1, learner_matrix(x)) %*% model)
      if (numbers) linear else stats::plogis(linear)
    }
  ),
  lasso = penalised_learner(1),
  ridge = penalised_learner(0),
  elastic_net = penalised_learner(0.5),
  tree = new_learner(
    "rpart", fit = function(x, y, weight, numbers) fit_tree_learner(x, y, weight, numbers),
    predict = function(model, x, numbers) {
      if (numbers) stats::predict(model, x) else stats::predict(model, x, type = "prob")[, "1"]
    },
    steps = TRUE
  ),
  forest = new_learner(
    "ranger", fit = function(x, y, weight, numbers) fit_forest_learner(x, y, weight, numbers),
    predict = function(model, x, numbers) predict_forest_learner(model, x, numbers), steps = TRUE
  ),
  boosted = new_learner(
    "gbm",
    fit = function(x, y, weight, numbers) {
      x$.z <- y
      gbm::gbm(.z ~ ., if (numbers) "gaussian" else "bernoulli", x, weight, n.trees = 300, interaction.depth = 2,
               shrinkage = 0.05, n.cores = 1)
    },
    predict = function(model, x, numbers) gbm::predict.gbm(model, x, n.trees = 300, type = "response"),
    steps = TRUE
  ),
  splines = new_learner(
    "mgcv", fit = function(x, y, weight, numbers) fit_spline_learner(x, y, weight, numbers),
    predict = function(model, x, numbers) as.double(stats::predict(model, number_columns(x), type = "response"))
  )
)

# An entry as what users give of their own: fit(x, z, weight) and predict(model, x).
as_learner <- function(entry, numbers) {
  list(package = entry$package, steps = entry$steps, fit = function(x, z, weight) entry$fit(x, z, weight, numbers),
       predict = function(model, x) entry$predict(model, x, numbers))
}

# Numbers only: indicators of all levels but the first.
learner_matrix <- function(x) stats::model.matrix(~ ., x)[, -1L, drop = FALSE]

# link: as in core_fit(). Columns that repeat others have coefficient 0.
fit_regression_learner <- function(x, z, weight, link) {
  fit <- core_fit(x, as.double(z), as.double(weight), link)
  if (fit$status == "separated") stop("the arms are separated")
  if (fit$status != "converged") stop("no convergence")
  fit$coefficients
}

# Grown with 10-fold cross-validation, pruned where its error is least.
fit_tree_learner <- function(x, z, weight, numbers) {
  x$.z <- if (numbers) z else factor(z, levels = 0:1)
  control <- rpart::rpart.control(cp = 0.002, minbucket = 20)
  tree <- if (numbers) {
    rpart::rpart(.z ~ ., x, weights = weight, method = "anova", control = control)
  } else {
    rpart::rpart(.z ~ ., x, weights = weight, method = "class", parms = list(split = "information"), control = control)
  }
  rpart::prune(tree, tree$cptable[which.min(tree$cptable[, "xerror"]), "CP"])
}

# Half a thousand trees while rows are few. Beyond 1,500, trees of all rows cost more than they tell: then as many are
# grown as make 750,000 rows of at most 10,000 each, 75 to 500, of numbers cut into 64 groups. Nodes of a hundredth of
# those rows are not split further (for an outcome one in 150), and each split looks at two columns at least, for an
# outcome at a third of them.
fit_forest_learner <- function(x, z, weight, numbers) {
  many <- nrow(x) > 1500L
  wide <- max(floor(c(sqrt(ncol(x)), if (numbers) ncol(x) / 3, if (many) min(2, ncol(x)))))
  grow <- function(x, z, ...) {
    ranger::ranger(x = x, y = if (numbers) z else factor(z, levels = 0:1), probability = !numbers, mtry = wide, ...,
                   oob.error = FALSE, num.threads = 1, seed = sample.int(1e6, 1L))
  }
  if (!many) {
    return(list(forest = grow(x, z, num.trees = 500, min.node.size = 20,
                              case.weights = if (diff(range(weight)) > 0) weight)))
  }
  drawn <- draw_tree_rows(z, weight)
  x <- x[drawn$at, , drop = FALSE]
  cuts <- lapply(x[sample.int(nrow(x), min(nrow(x), 10000L)), , drop = FALSE], find_cuts)
  forest <- grow(cut_columns(x, cuts), z[drawn$at], num.trees = length(drawn$counts), inbag = drawn$counts,
                 min.node.size = drawn$rows / (if (numbers) 150 else 100))
  list(cuts = cuts, forest = forest)
}

# What each tree of many rows is grown on: list(at: the rows in stretches of 10,000 and more, of at most 250,000 in all;
# counts: by tree, how often each of `at` is drawn; rows: how many rows a tree is meant for). A tree draws from one
# stretch, since one that draws from everywhere spends its time fetching: four fifths of `rows`, none twice, or as many
# as `rows` by weight. Stretches are alike in z.
draw_tree_rows <- function(z, weight) {
  able <- which(weight > 0)
  if (length(able) > 250000L) able <- sort(sample(able, 250000L))
  rows <- min(length(able), 10000)
  stretches <- max(length(able) %/% 10000, 1)
  each <- unname(split(able[order(z[able], stats::runif(length(able)))], rep_len(seq_len(stretches), length(able))))
  at <- unlist(each)
  before <- cumsum(c(0, lengths(each)))
  weighted <- diff(range(weight[able])) > 0
  trees <- min(ceiling(7.5e5 / rows), 500)
  counts <- lapply(rep_len(seq_len(stretches), trees), function(k) {
    own <- length(each[[k]])
    drawn <- if (weighted) sample.int(own, rows, replace = TRUE, prob = weight[each[[k]]]) else
      sample.int(own, ceiling(0.8 * rows))
    tabulate(before[k] + drawn, length(at))
  })
  list(at = at, counts = counts, rows = rows)
}

predict_forest_learner <- function(model, x, numbers) {
  answer <- stats::predict(model$forest, cut_columns(x, model$cuts), num.threads = 1)$predictions
  if (numbers) answer else answer[, "1"]
}

# Where a number of more than 64 values is cut into 64 groups of equal size, and their means; NULL for other columns.
# A value that fills a group, such as many zeros, stands alone. Trees split between means in a fraction of the time.
find_cuts <- function(column, groups = 64L) {
  if (!is.numeric(column)) return(NULL)
  sorted <- sort(column, method = "radix")
  if (sum(diff(sorted) > 0) < groups) return(NULL)
  at <- sorted[ceiling(length(sorted) * seq_len(groups - 1L) / groups)]
  below <- match(unique(at[duplicated(at)]), sorted) - 1L
  at <- setdiff(sort(unique(c(at, sorted[below]))), sorted[length(sorted)])
  group <- findInterval(sorted, at, left.open = TRUE) + 1L
  list(at = at, mean = core_sums_by(sorted, group) / tabulate(group))
}

# x with its numbers as the means of their groups.
cut_columns <- function(x, cuts) {
  for (name in names(cuts)) if (!is.null(cuts[[name]])) {
    x[[name]] <- cuts[[name]]$mean[findInterval(x[[name]], cuts[[name]]$at, left.open = TRUE) + 1L]
  }
  x
}

# A level that is in no row of those learnt from is like the first then.
number_columns <- function(x) {
  x <- as.data.frame(learner_matrix(x))
  stats::setNames(x, make.names(names(x), unique = TRUE))
}

# Numbers with 10 or more values enter as penalised cubic splines.
fit_spline_learner <- function(x, z, weight, numbers) {
  x <- number_columns(x)
  smooth <- vapply(x, function(column) is.numeric(column) && length(unique(column)) >= 10L, NA)
  terms <- ifelse(smooth, sprintf("s(%s, bs = \"cr\")", names(x)), names(x))
  varies <- vapply(x, function(column) length(unique(column)) > 1L, NA)
  formula <- stats::reformulate(terms[varies], ".z")
  x$.z <- z
  x$.weight <- weight
  family <- if (numbers) stats::gaussian() else stats::binomial()
  if (nrow(x) > 20000L) {
    mgcv::bam(formula, family, x, weights = x$.weight, discrete = TRUE)
  } else {
    mgcv::gam(formula, family, x, weights = x$.weight, method = "REML")
  }
}
