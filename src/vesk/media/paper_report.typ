// The report as PDF: what paper_report.html says, from the same values.
#let report = json(bytes(sys.inputs.report))
#set document(title: report.title)
#set page(
  paper: "a4", flipped: true, margin: (x: 10mm, top: 12mm, bottom: 14mm),
  footer: align(right, text(8pt, context counter(page).display("1 / 1", both: true))),
)
#set text(font: ("DejaVu Sans", "Liberation Sans", "Noto Sans", "Libertinus Serif"), size: 8pt, lang: "en")
#set par(leading: .45em, spacing: .7em)
#show heading: set block(above: 5mm, below: 2mm, sticky: true)
#show heading: set text(10pt)
// A name may go on in the next line after what parts it: nothing of it is added or lost.
#let name(text) = {
  for part in text.matches(regex("[^_.-]*[_.-]?")) {
    part.text
    h(0pt)
  }
}

#text(13pt, weight: "bold", report.title)

#strong(report.first)

#for line in report.lines { par(line) }

#table(
  columns: report.widths.map(width => width * 1fr), inset: (left: 0mm, right: 1.6mm, y: .8mm),
  stroke: (_, row) => (bottom: if row == 0 { .4mm } else { .2mm + luma(187) }),
  table.header(..report.columns.map(strong)),
  ..report.takes.map(take => take.cells.map(cell => text(if take.delivered { black } else { luma(85) }, name(cell)))).flatten(),
)

#if report.missing.len() > 0 [
  = What is missing
  #list(..report.missing)
]

#if report.clocks.len() > 0 [= Clocks over the day]
#let wide = 277mm / 800
#let tall = 22mm / 80
#for clock in report.clocks {
  block(breakable: false, width: 100%, above: 3mm)[
    *#clock.name* #clock.says
    #block(width: 277mm, height: 22mm)[
      #place(line(start: (0mm, 40 * tall), end: (277mm, 40 * tall), stroke: .2mm + luma(153)))
      #for drawn in clock.lines {
        let points = drawn.split().map(point => point.split(",").map(float))
        let at = ((x, y)) => (x * wide, y * tall)
        let lines = points.map(point => curve.line(at(point)))
        if points.len() > 1 { place(curve(stroke: .3mm, curve.move(at(points.first())), ..lines.slice(1))) }
      }
      #for (x, y) in clock.marks { place(dx: x * wide - .6mm, dy: y * tall - .6mm, circle(radius: .6mm, fill: black)) }
      #place(text(6pt)[+#clock.tall f])
      #place(bottom, text(6pt)[−#clock.tall f])
    ]
  ]
}
