# Stacked learners: Methods, "Propensity score". A learner is list(fit, predict): fit(x, z, weight) gives a model,
# predict(model, x) one probability per row; x a data frame of covariates without missing values.

score_from_learners <- function(x, settings, call) {
  study <- study_of(x)
  check_count(settings$folds, min = 2, arg = "folds", call = call)
  check_seed(settings$seed, null = TRUE, arg = "seed", call = call)
  learners <- check_learners(settings$learners, call)
  covariates <- learner_columns(study, settings$model, call)
  inside <- kept_weight(x) > 0
  seed <- learner_seed(settings)
  fold <- with_own_seed(seed, draw_folds(study$z, inside, round(settings$folds), study$levels, call))
  data <- list(x = covariates, z = study$z, s = kept_weight(x) / mean(kept_weight(x)[inside]))
  results <- run_learners(learners, data, fold, seed)
  learners <- working_learners(learners, results$failures, call)
  predictions <- results$predictions[, names(learners), drop = FALSE]
  warn_constant_learners(predictions, fold)
  weight <- core_stack_weights(predictions[inside, , drop = FALSE], study$z[inside], data$s[inside])
  used <- predictions
  if (settings$prediction == "refitted") {
    used <- refit_learners(learners[weight > 0], predictions, data, inside, seed, call)
  }
  fitted <- drop(used %*% weight)
  list(
    link = "logit", terms = paste(names(covariates), collapse = " + "), fitted = fitted, linear = stats::qlogis(fitted),
    known = TRUE, aliased = character(), predictions = predictions,
    learners = learner_table(predictions, weight, study$z, data$s, inside)
  )
}

# One row per learner and one for the stack of out-of-fold predictions.
learner_table <- function(predictions, weight, z, s, inside) {
  all <- cbind(predictions, stack = drop(predictions %*% weight))[inside, , drop = FALSE]
  data.frame(
    learner = c(names(weight), "stack"), weight = c(unname(weight), 1),
    loss = unname(apply(all, 2L, core_log_loss, z[inside], s[inside])),
    auc = unname(apply(all, 2L, core_auc, z[inside], s[inside]))
  )
}

# A data frame with names that formulas can use: the study's columns filled, with their missing indicators; the columns
# of the model matrix when a formula has more than plain columns.
learner_columns <- function(study, model, call) {
  terms <- model_terms(study, model, call)
  columns <- terms$columns
  formula <- terms$formula
  labels <- if (!is.null(formula)) attr(stats::terms(formula), "term.labels")
  if (all(vapply(labels, function(term) is.name(str2lang(term)), NA))) {
    parts <- unlist(unname(Map(function(column, name) {
      own <- if (column$kind == "factor") factor(column$values, seq_along(column$levels), column$levels)
             else column$values
      c(stats::setNames(list(own), name), flag_part(column, name))
    }, columns, names(columns))), recursive = FALSE)
  } else {
    parts <- as.data.frame(covariate_matrix(columns, formula), optional = TRUE)
  }
  names(parts) <- make.names(names(parts), unique = TRUE)
  as.data.frame(parts)
}

# Folds 1..k that keep the arms' shares, or whole clusters; 0 for units that are out. z, inside, cluster: n; levels: the
# names of the arms.
draw_folds <- function(z, inside, k, levels, call, cluster = NULL) {
  size <- c(treated = sum(inside & z == 1L), control = sum(inside & z == 0L))
  if (any(size < k)) {
    arm <- names(which.min(size))
    abort_input(c(
      "Each arm must have at least one unit in each of the {k} folds.",
      x = "The {arm} arm ({.val {levels[[arm]]}}) has {min(size)}.",
      i = "Use fewer {.arg folds}, or a regression."
    ), arm = arm, counts = size, call = call)
  }
  if (!is.null(cluster)) return(cluster_folds(z, inside, k, cluster, call))
  fold <- integer(length(inside))
  for (arm in 1:0) {
    rows <- which(inside & z == arm)
    fold[rows] <- sample(rep_len(seq_len(k), length(rows)))
  }
  fold
}

# Whole clusters in a fold, as many in each.
cluster_folds <- function(z, inside, k, cluster, call) {
  names <- unique(cluster[inside])
  if (length(names) < k) {
    abort_input(c("Folds keep clusters whole, so there must be one for each of the {k} folds.",
                  x = "There are {length(names)}.", i = "Use fewer {.arg folds}."), call = call)
  }
  fold <- sample(rep_len(seq_len(k), length(names)))[match(cluster, names)]
  fold[!inside] <- 0L
  lacking <- vapply(seq_len(k), function(j) min(tabulate(z[inside & fold != j] + 1L, 2L)) == 0L, NA)
  if (any(lacking)) {
    abort_input(c("Without one fold of clusters an arm has no unit left to learn from.",
                  i = "Use more {.arg folds}, or an estimator without learners."), call = call)
  }
  fold
}

# numbers: will they learn an outcome that is a number?
check_learners <- function(asked, call, numbers = FALSE) {
  known <- lapply(learners, as_learner, numbers = numbers)
  if (is.character(asked)) asked <- as.list(asked)
  if (!is.list(asked) || length(asked) == 0L) {
    abort_input("{.arg learners} must be names of learners, or a list of names and own learners.", call = call)
  }
  own <- vapply(asked, is_own_learner, NA)
  names <- if (is.null(names(asked))) rep("", length(asked)) else names(asked)
  wrong <- which(ifelse(own, !nzchar(names), !vapply(asked, rlang::is_string, NA)))
  if (length(wrong) > 0L) stop_own_learner(wrong[1L], call)
  for (k in which(!own)) {
    names[k] <- check_choice(asked[[k]], names(known), "learners", call)
    need_package(known[[names[k]]]$package, sprintf("use the learner \"%s\"", names[k]), call)
    asked[[k]] <- known[[names[k]]]
  }
  if (anyDuplicated(names) > 0L || "stack" %in% names) {
    abort_input("Learners must have different names, and none may be called {.val stack}.", call = call)
  }
  stats::setNames(asked, names)
}

is_own_learner <- function(x) is.list(x) && is.function(x$fit) && is.function(x$predict)

stop_own_learner <- function(place, call) {
  abort_input(c(
    "A learner of your own must be named and hold two functions, {.code fit(x, z, weight)} and
     {.code predict(model, x)}.",
    x = "Learner {place} is not.",
    i = "For example {.code learners = list(\"logit\", mine = list(fit = ..., predict = ...))}."
  ), call = call)
}

# Every learner on every fold; see run_targets().
run_learners <- function(learners, data, fold, seed) {
  run_targets(list(list(learners = learners, x = data$x, y = data$z, s = data$s, fold = fold, train = TRUE,
                        numbers = FALSE)), seed)[[1L]]
}

# targets: lists of learners, x, y, s, fold, train (which units may be learnt from), numbers (is y a number, not 0/1?).
# For each, predictions: n x learners, each unit's from the folds without it, units that are out the mean over folds;
# failures: named, the first message of each learner that failed. A task has a random stream of its own, so that the
# answer does not depend on how tasks are spread over workers.
run_targets <- function(targets, seed) {
  tasks <- do.call(rbind, lapply(seq_along(targets), function(t) {
    expand.grid(learner = seq_along(targets[[t]]$learners), fold = seq_len(max(targets[[t]]$fold)), target = t)
  }))  # the learner changes fastest, so every worker gets of each
  shared <- share_values(targets, target_values)
  answers <- show_progress("Learners", steps = nrow(tasks), work = function(tick) {
    future.apply::future_lapply(seq_len(nrow(tasks)), run_task, tasks = tasks, shared = shared, seed = seed,
                                tick = tick, future.seed = NULL, future.packages = "carefultwin",
                                future.scheduling = dealt_out())
  })
  lapply(seq_along(targets), function(t) {
    mine <- tasks$target == t
    gather_answers(targets[[t]], tasks[mine, ], answers[mine])
  })
}

target_values <- c("x", "y", "s", "fold", "train")

# Lists whose entries of the given names repeat one another: list(values: each once; lists: each entry its place among
# them). Workers are sent every value once.
share_values <- function(lists, names) {
  values <- list()
  lists <- lapply(lists, function(own) {
    own[names] <- lapply(own[names], function(value) {
      at <- Position(function(known) identical(known, value), values, nomatch = length(values) + 1L)
      values[[at]] <<- value
      at
    })
    own
  })
  list(values = values, lists = lists)
}

# What a worker does for task k of run_targets().
run_task <- function(k, tasks, shared, seed, tick) {
  target <- shared$lists[[tasks$target[k]]]
  target[target_values] <- shared$values[unlist(target[target_values])]
  tested <- target$fold == tasks$fold[k] | target$fold == 0L
  trained <- target$fold != tasks$fold[k] & target$fold != 0L & target$train
  answer <- run_learner(target$learners[[tasks$learner[k]]], target, trained, tested, sub_seed(seed, "learner", k))
  tick(names(target$learners)[tasks$learner[k]])
  answer
}

gather_answers <- function(target, tasks, answers) {
  fold <- target$fold
  names <- names(target$learners)
  predictions <- matrix(0, length(fold), length(names), dimnames = list(NULL, names))
  failures <- list()
  for (k in seq_len(nrow(tasks))) {
    name <- names[tasks$learner[k]]
    if (is.character(answers[[k]])) {
      failures[[name]] <- c(failures[[name]], answers[[k]])[1L]
      next
    }
    tested <- fold == tasks$fold[k] | fold == 0L
    share <- ifelse(fold[tested] == 0L, 1 / max(fold), 1)
    predictions[tested, name] <- predictions[tested, name] + share * answers[[k]]
  }
  list(predictions = predictions, failures = failures)
}

# Predictions for the tested units, probabilities kept a millionth away from 0 and 1; a message when the learner fails.
run_learner <- function(learner, data, trained, tested, seed) {
  tryCatch(with_own_seed(seed, suppressWarnings({
    model <- learner$fit(data$x[trained, , drop = FALSE], data$y[trained], data$s[trained])
    p <- as.double(learner$predict(model, data$x[tested, , drop = FALSE]))
    if (length(p) != sum(tested)) stop(sprintf("it predicts %d values for %d rows", length(p), sum(tested)))
    if (!all(is.finite(p))) stop("it predicts values that are missing or infinite")
    if (data$numbers) return(p)
    if (any(p < 0 | p > 1)) stop("it predicts values outside 0 to 1")
    pmin(pmax(p, 1e-6), 1 - 1e-6)
  })), error = function(e) conditionMessage(e))
}

working_learners <- function(learners, failures, call) {
  if (length(failures) > 0L) {
    listing <- sprintf("%s: %s", names(failures), shorten(gsub("\\s+", " ", unlist(failures)), 100L))
    if (length(failures) == length(learners)) {
      abort_input(c("Every learner failed.", stats::setNames(listing, rep("x", length(listing)))), call = call)
    }
    warn_kind("learner", c("{length(failures)} learner{?s} failed and {?is/are} left out of the stack.",
                           stats::setNames(listing, rep("x", length(listing)))), learners = names(failures))
  }
  learners[setdiff(names(learners), names(failures))]
}

# A learner that tells nobody apart within any fold has found nothing, or was given too little to find it with.
warn_constant_learners <- function(predictions, fold) {
  constant <- apply(predictions, 2L, function(p) {
    all(vapply(split(p[fold > 0L], fold[fold > 0L]), function(own) diff(value_ends(own)) < 1e-9, NA))
  })
  if (!any(constant)) return(invisible(predictions))
  names <- colnames(predictions)[constant]
  warn_kind("learner", c("{length(names)} learner{?s} predict{?s/} the same score for every unit: {.val {names}}.",
                         i = "Leave {cli::qty(length(names))}{?it/them} out, or give {?it/them} covariates that can tell
                              the arms apart."), learners = names)
}

refit_learners <- function(learners, predictions, data, inside, seed, call) {
  everyone <- rep(TRUE, length(inside))
  for (name in names(learners)) {
    answer <- run_learner(learners[[name]], list(x = data$x, y = data$z, s = data$s, numbers = FALSE), inside,
                          everyone, seed)
    if (is.character(answer)) {
      abort_input(c("The learner {.val {name}} failed when fitted again to all units.", x = "{answer}"), call = call)
    }
    predictions[, name] <- answer
  }
  predictions
}
