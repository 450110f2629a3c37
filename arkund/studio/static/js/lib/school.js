// Which school's targets the kit is meant to meet: what the one click brings it to.
export const school = {
  schools() {
    return this.chart?.schools || [];
  },
  setSchool(name) {
    return this.$store.page.move({ school: name }, `Style: ${name}`);
  },
};
