program kiln
  implicit none
  integer :: temp
  temp = "hot"
  temp = duty + 1
  print *, temp
contains
  subroutine heat(a)
    real, intent(in) :: a
    a = 3
  end subroutine
end program
