export interface Glaze { name: string; cone: number; layers: { thickness: number }[] }
export class Kiln<T extends { id: number }> {
  constructor(private readonly id: T) {}
  fire(at: number, slow?: boolean): number { return this.id.id + at; }
}
