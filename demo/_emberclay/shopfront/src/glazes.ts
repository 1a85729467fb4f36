export interface Glaze {
  name: string;
  cone: number;
  food: boolean;
  colour: string;
}

export const glazes: Glaze[] = [
  { name: "Ash shino", cone: 10, food: true, colour: "#d9a441" },
  { name: "Copper rain", cone: 6, food: false, colour: "#2f6b5e" },
  { name: "Slate matt", cone: 6, food: true, colour: "#5b6470" },
];
