module Glaze where

import Data.List (sort)
import qualified Data.Map as M

data Glaze = Celadon | Tenmoku Int

cool :: Glaze -> Int
cool g = case g of
  Celadon -> 1

total xs = foldr (+) 0 xs

shadow :: Int -> Int
shadow x = let x = 2 in x

unused :: Int -> Int
unused y = 3
  where z = 4

longType :: Int -> Int
longType 1 = 2
longType 1 = 3
