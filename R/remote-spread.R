# How a word is spread over the rows: bins in order, with the sums of other words in each. A few thousand rows are taken
# value by value. More are counted in equal bins, and then bins that hold too much are cut, pass by pass, until each
# holds little of every sum or a single value: equal bins alone say nothing of a variable with a long tail. Sums of bins
# of several tables can be added.

# few: so many rows are taken value by value. fineness: no bin of several values shall hold more than 1 / fineness of a
# sum. first: bins of the first pass. most: bins cut in a pass.
spread_settings <- list(few = 5000, fineness = 1000, first = 8192, most = 200, rounds = 8L)

# value: a word; sums: named calls, never negative; ends: between which about all values lie, where that is known.
# Returns a data frame, a row per bin: least and most (values in it) and the sums; attribute "coarse": the greatest
# share of a sum that lies in one bin of several values, 0 when every bin is one value.
row_spread <- function(rows, value, sums, ends = NULL, settings = spread_settings) {
  key <- paste(c("spread", deparse1(value), vapply(sums, deparse1, "")), collapse = "\r")
  if (!is.null(rows$kept[[key]])) return(rows$kept[[key]])
  value <- say_word(rows, "x", value)
  bins <- if (rows$count <= settings$few) spread_over(rows, value, value, sums) else
    refined_spread(rows, value, sums, ends, settings)
  bins <- bins[rowSums(bins[names(sums)]) > 0, , drop = FALSE]
  attr(bins, "coarse") <- max(coarse_shares(bins, names(sums)))
  rows$kept[[key]] <- bins
  bins
}

refined_spread <- function(rows, value, sums, ends, settings) {
  if (is.null(ends)) ends <- unname(unlist(row_ends(rows, list(value = value))))
  if (ends[1L] == ends[2L]) return(spread_over(rows, value, value, sums))
  bins <- spread_over(rows, value, part_word(value, ends[1L], ends[2L], settings$first), sums)
  totals <- colSums(bins[names(sums)])
  for (round in seq_len(settings$rounds)) {
    coarse <- coarse_shares(bins, names(sums))
    cut <- utils::head(order(-coarse), settings$most)
    cut <- sort(cut[coarse[cut] > 1 / settings$fineness])
    if (length(cut) == 0L) break
    finer <- spread_over(rows, value, cut_word(value, bins, cut, ceiling(4 * settings$fineness * coarse[cut])), sums)
    bins <- rbind(bins[-cut, ], finer)
    bins <- bins[order(bins$least), ]
    rownames(bins) <- NULL
  }
  if (any(abs(colSums(bins[names(sums)]) - totals) > 1e-9 * totals)) {
    stop_changed(rows$source, "Values of columns in use are not the same any more.")
  }
  bins
}

# The sums by a bin, a call; rows without one are left out.
spread_over <- function(rows, value, bin, sums) {
  own <- scratch_rows(rows)
  key <- as.character(say_word(own, "b", bin))
  found <- row_sums_by(own, c(list(least = value, most = value), sums), key,
                       c("MIN", "MAX", rep("SUM", length(sums))))
  found <- found[is.na(found[[key]]) | found[[key]] != no_bin, ]
  found[[key]] <- NULL
  rownames(found) <- NULL
  found
}

# A value no row's bin has: bins are counted from 0, and values far smaller are refused when a study is framed.
no_bin <- -1e200

# By bin, the greatest of its shares of the sums; 0 for bins of one value.
coarse_shares <- function(bins, names) {
  shares <- lapply(names, function(name) bins[[name]] / max(sum(bins[[name]]), .Machine$double.xmin))
  (bins$least < bins$most) * do.call(pmax, shares)
}

# Which of so many equal parts from least to most a value lies in, counted from `start`.
part_word <- function(value, least, most, parts, start = 0) {
  bquote(.(start) + floor((.(value) - .(least)) * .(parts / (most - least))))
}

# Parts of the bins `cut`, numbered on from bin to bin; no_bin for values in others. The least value of the next bin
# ends a bin.
cut_word <- function(value, bins, cut, parts) {
  start <- cumsum(c(0, parts + 1))[seq_along(cut)]
  inside <- Map(function(k, parts, start) part_word(value, bins$least[k], bins$most[k], parts, start), cut, parts,
                start)
  edges <- c(rbind(bins$least[cut], c(bins$least, Inf)[cut + 1L]))
  choices <- c(list(no_bin), unlist(lapply(inside, list, no_bin), recursive = FALSE))
  kept <- is.finite(edges) & !duplicated(edges, fromLast = TRUE)
  choices <- choices[c(TRUE, kept)]
  edges <- edges[kept]
  stepped_word(quote(below), value, edges, choices)
}

# One of many choices by the edges that a word has passed, by the word `kind` (below or upto). Two steps find it: a deep
# tree of conditions overflows parsers, one long list is slow.
stepped_word <- function(kind, word, edges, choices) {
  choose <- function(edges, choices) {
    if (length(choices) == 1L) choices[[1L]] else as.call(c(kind, word, as.call(c(quote(c), edges)), choices))
  }
  groups <- split(seq_along(choices), (seq_along(choices) - 1L) %/% ceiling(sqrt(length(choices))))
  inner <- lapply(groups, function(own) choose(edges[own[-1L] - 1L], choices[own]))
  choose(edges[vapply(groups[-1L], `[`, 1L, 1L) - 1L], unname(inner))
}
