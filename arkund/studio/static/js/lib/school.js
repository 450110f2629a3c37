// Which style's targets the kit is meant to meet: what the one click brings it to. Those of one's own stand behind those of the table.
export const school = {
  styles() {
    return this.chart?.styles || [];
  },
  setStyle(row) {
    return this.$store.page.move(row.sets, `Style: ${row.style}`);
  },
};
