// A report on A4. All text comes as data: nothing in it is read as markup.
#let data = json(bytes(sys.inputs.data))
#let report = data.document
#let day = report.day.split("-").map(int)
#set document(title: report.title, author: data.shop, date: datetime(year: day.at(0), month: day.at(1), day: day.at(2)))
#set text(font: ("Atkinson Hyperlegible Next", "Libertinus Serif", "DejaVu Sans Mono"), size: 10.5pt, lang: report.language, hyphenate: true)
#set par(leading: 0.62em, spacing: 0.9em, justify: false)
#let faint = rgb("#55595e")
#let line-colour = rgb("#b9bec4")
#set page(
  paper: "a4",
  margin: (left: 24mm, right: 20mm, top: 22mm, bottom: 24mm),
  footer: context [
    #set text(size: 8.5pt, fill: faint)
    #grid(columns: (1fr, auto), column-gutter: 8mm,
      data.foot.split("\n").map(text).join(linebreak()),
      data.page.replace("{page}", str(counter(page).get().first())).replace("{pages}", str(counter(page).final().first())),
    )
  ],
)
#show heading.where(level: 2): it => block(above: 1.5em, below: 0.7em, text(size: 13pt, weight: "bold", it.body))
#show heading.where(level: 3): it => block(above: 1.2em, below: 0.6em, text(size: 11pt, weight: "bold", it.body))
#show heading.where(level: 1): it => block(above: 0pt, below: 0.5em, text(size: 19pt, weight: "bold", it.body))

// the letterhead
#grid(columns: (1fr, auto), column-gutter: 8mm,
  {
    set text(size: 9.5pt)
    data.head.split("\n").enumerate().map(((number, part)) => if number == 0 { text(weight: "bold", part) } else { text(part) }).join(linebreak())
  },
  if data.mark != none {
    let content = if data.mark.kind == "svg" { bytes(data.mark.text) } else { bytes(data.mark.bytes) }
    image(content, format: data.mark.kind, height: 16mm, width: 60mm, fit: "contain", alt: data.shop)
  },
)
#v(4mm)
#line(length: 100%, stroke: 0.6pt + line-colour)
#v(5mm)

= #report.title
#{
  for part in report.lines { text(fill: faint, part); linebreak() }
  text(fill: faint, data.made)
}

#let drawing(block) = {
  let wide = 156mm
  let high = 26mm
  let points = block.points.map(point => (point.across * wide, high - point.up * high))
  figure(
    alt: block.alt_text,
    caption: figure.caption(position: bottom, text(size: 9pt, fill: faint, block.caption)),
    numbering: none,
    kind: "drawing",
    supplement: none,
    std.block(width: wide, height: high, breakable: false, stroke: (bottom: 0.6pt + line-colour, top: 0.3pt + line-colour), {
      for share in (0.25, 0.5, 0.75) { place(top + left, dy: high * share, line(length: wide, stroke: 0.3pt + rgb("#e2e5e8"))) }
      place(top + left, curve(stroke: 1.4pt + rgb("#0b5c63"),
        curve.move(points.first()),
        ..points.slice(1).map(point => curve.line(point))))
      place(top + right, dx: 8mm, dy: -2mm, text(size: 7.5pt, fill: faint, "100 %"))
      place(bottom + right, dx: 8mm, dy: 1mm, text(size: 7.5pt, fill: faint, "0 %"))
    }),
  )
}

#for block in report.blocks {
  if block.kind == "heading" {
    heading(level: block.level, block.text)
  } else if block.kind == "paragraph" {
    if block.quoted { pad(left: 5mm, par(emph(block.text))) } else { par(block.text) }
  } else if block.kind == "list" {
    list(..block.lines.map(part => text(part)), spacing: 0.7em)
  } else if block.kind == "table" {
    let wide = block.columns.map(column => if column.is_number { auto } else { 1fr })
    table(
      columns: wide,
      align: (at, row) => if block.columns.at(at).is_number { right } else { left },
      stroke: (x, y) => (bottom: if y == 0 { 0.8pt + black } else { 0.4pt + line-colour }),
      inset: (x: 2.2mm, y: 1.6mm),
      table.header(..block.columns.map(column => text(size: 9pt, weight: "bold", column.name))),
      ..block.rows.flatten().map(cell => text(size: 9.5pt, cell)),
    )
  } else if block.kind == "drawing" {
    drawing(block)
  }
}

#if data.seal != "" {
  heading(level: 2, data.proof)
  par(data.proof_text)
  std.block(breakable: false, text(font: "DejaVu Sans Mono", size: 5.6pt, hyphenate: false, ligatures: false, data.seal.split("\n").map(text).join(linebreak())))
}
