graph_of <- function(text, ...) assume_graph(paste("digraph {", text, "}"), ...)
plain <- function(sets) lapply(seq_along(sets), function(k) sets[[k]])

# d-separation by its definition: every simple path is blocked. Brute force over all paths.
separated_by_paths <- function(parents, x, y, z) {
  joined <- parents | t(parents)
  below <- function(node) {  # the node and its descendants
    reached <- node
    repeat {
      more <- setdiff(which(colSums(parents[reached, , drop = FALSE]) > 0), reached)
      if (length(more) == 0) return(reached)
      reached <- c(reached, more)
    }
  }
  open_at <- function(a, b, c) {
    if (parents[a, b] && parents[c, b]) any(below(b) %in% z) else !b %in% z
  }
  walk <- function(path) {
    here <- path[length(path)]
    for (following in setdiff(which(joined[here, ]), path)) {
      if (length(path) > 1 && !open_at(path[length(path) - 1], here, following)) next
      if (following == y || walk(c(path, following))) return(TRUE)
    }
    FALSE
  }
  !walk(x)
}

# All minimal back-door sets by trying every subset.
sets_by_force <- function(parents, x, y, observed) {
  cut <- parents
  cut[x, ] <- FALSE
  descendants <- x
  repeat {
    more <- setdiff(which(colSums(parents[descendants, , drop = FALSE]) > 0), descendants)
    if (length(more) == 0) break
    descendants <- c(descendants, more)
  }
  allowed <- setdiff(observed, c(descendants, y))
  subsets <- unlist(lapply(0:length(allowed), function(k) {
    if (k == 0) list(integer()) else lapply(utils::combn(length(allowed), k, simplify = FALSE), function(i) allowed[i])
  }), recursive = FALSE)
  good <- Filter(function(z) separated_by_paths(cut, x, y, z), subsets)
  Filter(function(z) !any(vapply(good, function(other) length(other) < length(z) && all(other %in% z), NA)), good)
}

random_parents <- function(n, seed) {
  withr::with_seed(seed, {
    parents <- matrix(FALSE, n, n, dimnames = list(letters[1:n], letters[1:n]))
    parents[upper.tri(parents)] <- runif(n * (n - 1) / 2) < sample(c(0.25, 0.4, 0.6), 1)
    shuffle <- sample(n)
    parents[shuffle, shuffle]
  })
}

test_that("d-separation agrees with brute force over paths on 200 random graphs", {
  differing <- vapply(1:200, function(seed) {
    n <- 3 + seed %% 5
    parents <- random_parents(n, seed)
    z <- withr::with_seed(seed, sample(3:n, sample(0:(n - 2), 1)))
    z <- if (n == 3 && length(z) > 0) 3 else z
    core_d_separated(parents, 1, 2, z) != separated_by_paths(parents, 1, 2, z)
  }, NA)
  expect_identical(sum(differing), 0L)
})

test_that("minimal sets agree with trying every subset on 150 random graphs with hidden nodes", {
  differing <- vapply(1:150, function(seed) {
    n <- 4 + seed %% 4
    parents <- random_parents(n, 500 + seed)
    hidden <- withr::with_seed(seed, sample(3:n, sample(0:2, 1)))
    nodes <- rownames(parents)
    places <- which(parents, arr.ind = TRUE)
    if (nrow(places) == 0) return(FALSE)
    text <- paste(c(nodes, paste(nodes[places[, 1]], "->", nodes[places[, 2]])), collapse = "; ")
    found <- sets_to_adjust(graph_of(text, unobserved = nodes[hidden]), nodes[1], nodes[2])
    wanted <- lapply(sets_by_force(parents, 1, 2, setdiff(seq_len(n), hidden)), function(z) sort(nodes[z]))
    !setequal(vapply(found, paste, "", collapse = " "), vapply(wanted, paste, "", collapse = " "))
  }, NA)
  expect_identical(sum(differing), 0L)
})

test_that("the small classics come out as in the textbooks", {
  sets <- function(text, ...) plain(sets_to_adjust(graph_of(text, ...), "x", "y"))
  expect_identical(sets("c -> {x y}; x -> y"), list("c"))                              # confounder
  expect_identical(sets("x -> m -> y"), list(character()))                             # mediator
  expect_identical(sets("x -> c; y -> c; x -> y"), list(character()))                  # collider
  expect_identical(sets("a -> {x m}; b -> {m y}; x -> y"), list(character()))          # M-structure
  expect_identical(sets("u -> {x y}; x -> m -> y", unobserved = "u"), list())          # front door
  expect_identical(sets("i -> x -> y; u -> {x y}", unobserved = "u"), list())          # instrument
  expect_identical(sets("a -> x; a -> c; b -> c; b -> y; c -> d; x -> y"), list(character()))  # below a collider
  expect_identical(sets("a -> b -> x; a -> y; x -> y"), list("a", "b"))
  expect_identical(sets("y -> x"), list())                                             # the outcome causes the exposure
})

test_that("a proposed set is explained: descendant, open path, opened collider, hidden node", {
  m <- graph_of("a -> {x m}; b -> {m y}; x -> y; m -> d; y -> e")
  explained <- explain_set(m, c("d", "e"), "x", "y")
  expect_false(explained$sufficient)
  expect_identical(explained$descendants, "e")
  expect_identical(explained$open[[1]], "x <- a -> m <- b -> y")
  expect_identical(explained$opened, "m")
  expect_true(explain_set(m, c("m", "a"), "x", "y")$sufficient)
  expect_match(paste(format(explain_set(m, "m", "x", "y")), collapse = " "), "Colliders opened by the set: m")
  hidden <- graph_of("u -> {x y}; x -> y", unobserved = "u")
  expect_identical(explain_set(hidden, "u", "x", "y")$unobserved, "u")
  expect_match(paste(format(sets_to_adjust(hidden, "x", "y")), collapse = " "), "x <- u -> y")
})

test_that("claims are pairs without an arrow with a set that separates them, and miss none", {
  parents <- random_parents(7, 77)
  nodes <- rownames(parents)
  places <- which(parents, arr.ind = TRUE)
  graph <- graph_of(paste(c(nodes, paste(nodes[places[, 1]], "->", nodes[places[, 2]])), collapse = "; "))
  claims <- testable_claims(graph)
  expect_gt(nrow(claims), 3)
  expect_identical(nrow(claims), as.integer(7 * 6 / 2 - nrow(places)))
  holds <- mapply(function(x, y, given) separated_by_paths(graph$parents, match(x, rownames(graph$parents)),
    match(y, rownames(graph$parents)), match(given, rownames(graph$parents))), claims$x, claims$y, claims$given)
  expect_true(all(holds))
})

test_that("DOT is read with chains, groups, quotes, comments and roles, and written back to the same graph", {
  graph <- assume_graph("strict digraph \"my crews\" { // a comment
    rankdir = LR; node [shape=box, label=\"x -> y\"];
    \"old port\" -> {joined; income} ; joined -> store-size -> income [color=red]
    /* hidden */ mood [role=unobserved, pos=\"1,2\"]; mood -> income; joined [exposure]; income [outcome]; lonely
  }")
  expect_identical(graph$unobserved, "mood")
  expect_identical(c(graph$exposure, graph$outcome), c("joined", "income"))
  edges <- as.data.frame(graph)
  expect_setequal(paste(edges$from, edges$to, sep = ">"), c("old port>joined", "old port>income", "joined>store-size",
                                                           "store-size>income", "mood>income"))
  expect_true("lonely" %in% rownames(graph$parents))
  expect_identical(assume_graph(as_dot(graph)), graph)
  file <- withr::local_tempfile(fileext = ".dot")
  writeLines(as_dot(graph), file)
  expect_identical(assume_graph(file), graph)
  csv <- withr::local_tempfile(fileext = ".csv")
  data.table::fwrite(edges, csv)
  expect_identical(as.data.frame(assume_graph(csv)), as.data.frame(assume_graph(edges)))
})

test_that("bad graphs are refused", {
  refused <- function(text, pattern, ...) expect_error(graph_of(text, ...), pattern, class = "twin_error_input")
  refused("a -> b -> c -> a", "\"a -> b -> c -> a\"|\"b -> c -> a -> b\"|\"c -> a -> b -> c\"")
  refused("a -> a", "a -> a")
  refused("a -- b", "must have a direction")
  refused("a -> b [dir=both]", "can't point both ways")
  refused("a -> ", "where a name should be")
  refused("a -> b", "no node \"q\"", unobserved = "q")
  expect_error(assume_graph("a -> b"), "can't be read as a graph", class = "twin_error_input")
  expect_error(assume_graph(data.frame(a = 1)), "columns \"from\" and \"to\"", class = "twin_error_input")
  expect_error(sets_to_adjust(graph_of("exposed -> y"), "exposd", "y"), "Did you mean \"exposed\"",
               class = "twin_error_input")
  expect_error(sets_to_adjust(graph_of("x -> y")), "does not say which node is the exposure", class = "twin_error_input")
})

test_that("tests of claims keep their level when the graph is right and reject when an arrow is missing", {
  world <- function(seed, n = 400) {
    withr::with_seed(seed, {
      a <- rnorm(n)
      port <- factor(ifelse(a + rnorm(n) > 0.5, "large", ifelse(a + rnorm(n) > 0, "medium", "small")))
      debt <- runif(n) < plogis(a)
      c <- a + rnorm(n)
      data.frame(a, port, debt, c)
    })
  }
  right <- graph_of("a -> {port debt c}")
  rejected <- vapply(1:60, function(seed) mean(test_claims(right, world(seed), "none")$p.value < 0.05), 0)
  # 60 draws of 3 claims at 5%: mean 0.05, sd of the mean about 0.016
  expect_lt(abs(mean(rejected) - 0.05), 4 * 0.016)
  wrong <- test_claims(graph_of("port -> debt; c -> port"), world(1))
  expect_lt(wrong$p.adjusted[1], 0.001)
  expect_identical(order(wrong$p.value), seq_len(nrow(wrong)))
})

test_that("each kind of test is the known one", {
  data <- withr::with_seed(3, data.frame(x = rnorm(80), y = rnorm(80), g = rnorm(80)))
  data$yes <- data$x + rnorm(80) > 0
  data$level <- rep(c("a", "b", "c", "d"), 20)
  one <- function(x, y, given) test_claim(x, y, given, lapply(stats::setNames(nm = names(data)), function(name) {
    plain_column(data[[name]], name, NULL)
  }))
  numeric <- one("x", "y", "g")
  expect_equal(numeric$p.value, summary(lm(y ~ x + g, data))$coefficients["x", 4])
  expect_equal(one("yes", "x", "g")$p.value, anova(lm(x ~ g, data), lm(x ~ g + yes, data))[["Pr(>F)"]][2])
  logit <- function(f) glm(f, binomial, data)
  expect_equal(one("level", "yes", character())$p.value,
               anova(logit(yes ~ 1), logit(yes ~ level), test = "LRT")[["Pr(>Chi)"]][2])
})

test_that("forty nodes are no trouble, and too many sets are stopped with a warning", {
  n <- 10L
  rungs <- paste(sprintf("a%d -> b%d -> x; a%d -> y", 1:n, 1:n, 1:n), collapse = "; ")
  graph <- graph_of(paste("x -> y;", rungs))
  expect_identical(nrow(graph$parents), 2L * n + 2L)
  expect_length(sets_to_adjust(graph, "x", "y"), 2^n)
  expect_warning(some <- sets_to_adjust(graph, "x", "y", most = 50), class = "twin_warning_many")
  expect_length(some, 50)
  big <- paste(vapply(1:38, function(k) sprintf("n%d -> n%d; n%d -> x; n%d -> y", k, k + 1, k, k), ""), collapse = "; ")
  expect_length(sets_to_adjust(graph_of(paste("x -> y;", big)), "x", "y"), 1)
})

test_that("the picture tells roles apart by words and borders and draws open paths thick", {
  graph <- graph_of("c -> {x y}; x -> y; u -> c", exposure = "x", outcome = "y", unobserved = "u")
  open <- plot(graph)
  expect_identical(sum(open_edges(graph, character())), 2L)
  expect_identical(sum(open_edges(graph, "c")), 0L)
  drawn <- drawn_graph(open)
  expect_identical(vapply(drawn$arrows, function(arrow) arrow$gp$lwd, 0) > 2, open_edges(graph, character()))
  expect_setequal(setdiff(text_boxes(open)$text, c(open$labels$title, open$labels$subtitle)),
                  c("c", "x", "y", "u", "exposure", "outcome", "not observed"))
  expect_identical(length(unique(vapply(drawn$boxes, function(box) paste(box$gp$fill, box$gp$col, box$gp$lty), ""))), 4L)
  expect_match(plot(graph, adjusted = "c")$labels$subtitle, "No back-door path is open")
})

test_that("exposure stands left of outcome, arrows end at the boxes, and no name lies on an arrow's head", {
  graph <- graph_of("c -> {x y}; x -> m; m -> y; u -> c; c -> m", exposure = "x", outcome = "y")
  drawn <- drawn_graph(plot(graph))
  at <- vapply(drawn$boxes, function(box) c(as.numeric(box$x), as.numeric(box$width) / 2, as.numeric(box$y),
                                            as.numeric(box$height) / 2), numeric(4))
  colnames(at) <- rownames(graph$parents)
  expect_lt(at[1, "x"] + at[2, "x"], at[1, "y"] - at[2, "y"])
  edges <- which(graph$parents, arr.ind = TRUE)
  for (k in seq_len(nrow(edges))) {
    tip <- vapply(drawn$arrows[[k]][c("x", "y")], function(v) as.numeric(v)[length(v)], 0)
    away <- pmax(abs(tip - at[c(1, 3), edges[k, 2]]) - at[c(2, 4), edges[k, 2]], 0)
    expect_lt(max(away), 0.1)  # at the border of the effect's box ...
    inside <- abs(tip[1] - at[1, ]) < at[2, ] & abs(tip[2] - at[3, ]) < at[4, ]
    expect_false(any(inside))  # ... and in no box
  }
})

test_that("a study takes its covariates from the graph, and is warned about bad controls", {
  data <- many_crews()
  data$after <- data$joined + withr::with_seed(1, rnorm(300))
  graph <- graph_of("boat -> {joined income past}; port -> {joined income}; joined -> {income after}; past -> income")
  study <- frame_study(data, "joined", "income", graph = graph)
  expect_identical(names(study$columns), c("boat", "port"))
  warning <- expect_warning(frame_study(data, "joined", "income", c("boat", "after"), graph = graph),
                            class = "twin_warning_bad_controls")
  expect_identical(warning$descendants, "after")
  expect_identical(warning$open, "joined <- port -> income")
  expect_no_warning(frame_study(data, "joined", "income", c("boat", "port", "past"), graph = graph))
  expect_error(frame_study(data, "joined", "income"), "column names in quotes or a one-sided formula",
               class = "twin_error_input")
  hidden <- graph_of("u -> {joined income}; joined -> income", unobserved = "u")
  expect_error(frame_study(data, "joined", "income", graph = hidden), "joined <- u -> income",
               class = "twin_error_unsupported")
})

test_that("every node outside a set has its reason, in sets, checks and the graph's print", {
  graph <- assume_graph("digraph { port -> {joined income}; joined -> {sold income tag}; sold -> income; mood -> {port income}; tax -> joined;
                         rain -> income; income -> later; far -> port; left -> {bump}; right -> {bump}; left -> joined; right -> income }",
                        unobserved = "mood", exposure = "joined", outcome = "income")
  reason <- function(set) stats::setNames(explain_set(graph, set)$outside$reason, explain_set(graph, set)$outside$node)
  given <- reason("port")
  expect_setequal(names(given), setdiff(rownames(graph$parents), c("joined", "income", "port")))
  expect_match(given[["mood"]], "nobody measured")
  expect_match(given[["sold"]], "take away part of the effect")
  expect_identical(given[["tag"]], "caused by the exposure")
  expect_identical(given[["later"]], "comes after the outcome")
  expect_match(given[["tax"]], "moves the exposure alone")
  expect_match(given[["rain"]], "moves the outcome alone")
  expect_match(given[["bump"]], "open a path")
  expect_match(given[["far"]], "^not needed")
  expect_match(reason(character())[["port"]], "would close the paths")
  expect_match(reason(character())[["rain"]], "would not close all")
  # the reasons are true: adding each node to the set keeps it sufficient, or not
  for (node in setdiff(names(given), "mood")) {
    keeps <- explain_set(graph, c("port", node))$sufficient
    expect_identical(keeps, !grepl("open a path|take away|caused by|comes after", given[[node]]), info = node)
  }
  text <- gsub("\\s+", " ", paste(format(graph), collapse = " "))
  expect_match(text, "What to adjust for: joined on income {port} Not in it:", fixed = TRUE)
  expect_match(text, "tax moves the exposure alone", fixed = TRUE)
  expect_match(paste(format(sets_to_adjust(graph)), collapse = " "), "rain +moves the outcome alone")
  nodes <- tidy(explain_set(graph, c("port", "sold")))
  expect_identical(nodes$reason[nodes$node == "sold"], "caused by the exposure")
  expect_identical(nodes$in_set, nodes$node %in% c("port", "sold"))
  expect_no_match(paste(format(assume_graph("digraph {a -> b}")), collapse = " "), "Not in it")
})

test_that("claims read as statements, and tests of them end in a verdict", {
  graph <- assume_graph("digraph { a -> b -> c; b -> d }")
  claims <- testable_claims(graph)
  text <- format.twin_claims(claims)
  expect_match(text, "a and c are independent given b", fixed = TRUE, all = FALSE)
  expect_identical(sum(grepl("are independent", text)), nrow(claims))
  data <- withr::with_seed(3, {
    a <- rnorm(800)
    b <- a + rnorm(800)
    data.frame(a, b, c = b + a + rnorm(800), d = b + rnorm(800))
  })
  tests <- test_claims(graph, data)
  ac <- tests$x == "a" & tests$y == "c"
  expect_identical(tests$verdict[ac], "contradicted")
  expect_identical(tests$verdict, ifelse(tests$p.adjusted <= 0.05, "contradicted", "not contradicted"))
  expect_identical(glance(tests)$contradicted, sum(tests$p.adjusted <= 0.05))
  expect_match(paste(capture.output(print(tests)), collapse = " "), "contradict 1 of the graph's 3 claims at level 0.05", fixed = TRUE)
  right <- test_claims(assume_graph("digraph { a -> b; a -> c; b -> c; b -> d }"), data, level = 1e-6)
  expect_match(format.twin_claims(right)[1], "contradict none of the graph's")
  few <- test_claims(graph, data[1:3, ])
  expect_identical(unique(few$verdict), "not tested")
  expect_match(paste(capture.output(print(few)), collapse = " "), "3 could not be tested")
  expect_match(paste(format.twin_claims(testable_claims(assume_graph("digraph {a -> b}"))), collapse = " "), "claims nothing")
  expect_error(test_claims(graph, data, level = 2), class = "twin_error_input")
})
